// Passkeys of account holders; what browsers know of them is shared with the console.
import { answered, made, type Asked } from '@/webauthn'
import { call, type Holder } from './calls'

export { passkeysWork, stopped } from '@/webauthn'

export async function addPasskey(now: string, label: string) {
  const ask = await call<Asked>('POST', '/account/passkeys/ask', { now })
  await call('POST', '/account/passkeys', { id: ask.id, label, response: await made(ask) })
}

export async function enterByPasskey(code: string): Promise<Holder> {
  const ask = await call<Asked>('POST', '/passkeys/ask')
  return call<Holder>('POST', '/passkeys/sign-in', { id: ask.id, response: await answered(ask), ...(code && { code }) })
}
