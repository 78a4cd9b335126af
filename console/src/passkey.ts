import { call, type Schemas } from './api/client'
import { answered, made } from './webauthn'

export { passkeysWork, stopped } from './webauthn'

// addPasskey has the browser make a passkey for who is signed in.
export async function addPasskey(now: string, label: string) {
  const ask = await call<Schemas['PasskeyAsk']>('POST', '/me/passkeys/ask', { now } satisfies Schemas['Proving'])
  await call('POST', '/me/passkeys', { id: ask.id, label, response: await made(ask) } satisfies Schemas['PasskeyAnswer'])
}

// answerPasskey has the browser prove who is there.
export async function answerPasskey(): Promise<Schemas['PasskeyAnswer']> {
  const ask = await call<Schemas['PasskeyAsk']>('POST', '/sign-in/passkey/ask')
  return { id: ask.id, response: await answered(ask) }
}
