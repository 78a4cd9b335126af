import { call, type Schemas } from './api/client'

// What browsers know of passkeys (WebAuthn), in the JSON forms of its level 3.
type Forms = typeof PublicKeyCredential & {
  parseCreationOptionsFromJSON(options: unknown): PublicKeyCredentialCreationOptions
  parseRequestOptionsFromJSON(options: unknown): PublicKeyCredentialRequestOptions
}
type Made = PublicKeyCredential & { toJSON(): Record<string, unknown> }

// passkeysWork is false where the browser knows none, or the page came neither by TLS nor from this machine.
export const passkeysWork = () => typeof PublicKeyCredential !== 'undefined' && 'parseRequestOptionsFromJSON' in PublicKeyCredential

// addPasskey has the browser make a passkey for who is signed in.
export async function addPasskey(label: string) {
  const ask = await call<Schemas['PasskeyAsk']>('POST', '/me/passkeys/ask')
  const made = (await navigator.credentials.create({ publicKey: (PublicKeyCredential as Forms).parseCreationOptionsFromJSON(ask.options) })) as Made
  await call('POST', '/me/passkeys', { id: ask.id, label, response: made.toJSON() } satisfies Schemas['PasskeyAnswer'])
}

// answerPasskey has the browser prove who is there.
export async function answerPasskey(): Promise<Schemas['PasskeyAnswer']> {
  const ask = await call<Schemas['PasskeyAsk']>('POST', '/sign-in/passkey/ask')
  const proof = (await navigator.credentials.get({ publicKey: (PublicKeyCredential as Forms).parseRequestOptionsFromJSON(ask.options) })) as Made
  return { id: ask.id, response: proof.toJSON() }
}

// stopped says that the person, or the browser for it, has stopped: no error to show.
export const stopped = (error: unknown) => error instanceof DOMException && (error.name === 'NotAllowedError' || error.name === 'AbortError')
