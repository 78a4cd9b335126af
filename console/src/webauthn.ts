// What browsers know of passkeys (WebAuthn), in the JSON forms of its level 3.
type Forms = typeof PublicKeyCredential & {
  parseCreationOptionsFromJSON(options: unknown): PublicKeyCredentialCreationOptions
  parseRequestOptionsFromJSON(options: unknown): PublicKeyCredentialRequestOptions
}
type Made = PublicKeyCredential & { toJSON(): Record<string, unknown> }
export type Asked = { id: string; options?: unknown }

// passkeysWork is false where the browser knows none, or the page came neither by TLS nor from this machine.
export const passkeysWork = () => typeof PublicKeyCredential !== 'undefined' && 'parseRequestOptionsFromJSON' in PublicKeyCredential

// made has the browser make a passkey.
export const made = async (ask: Asked) => ((await navigator.credentials.create({ publicKey: (PublicKeyCredential as Forms).parseCreationOptionsFromJSON(ask.options) })) as Made).toJSON()

// answered has the browser prove who is there.
export const answered = async (ask: Asked) => ((await navigator.credentials.get({ publicKey: (PublicKeyCredential as Forms).parseRequestOptionsFromJSON(ask.options) })) as Made).toJSON()

// stopped says that the person, or the browser for it, has stopped: no error to show.
export const stopped = (error: unknown) => error instanceof DOMException && (error.name === 'NotAllowedError' || error.name === 'AbortError')
