import type { components } from './schema'

export type Schemas = components['schemas']
export type Account = Schemas['Account']
export type Session = Schemas['Session']
export type Transfer = Schemas['Transfer']

// Problem is an error that the service gave (RFC 9457).
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly field: string | undefined,
    detail: string,
    readonly reason?: string,
  ) {
    super(detail)
  }
}

// call makes one request of the API. It throws a Problem for a refusal and for a
// service that can't be reached.
export async function call<T = void>(method: string, path: string, body?: unknown): Promise<T> {
  let response: Response
  try {
    response = await fetch('/api/v1' + path, {
      method,
      headers: body === undefined ? {} : { 'Content-Type': 'application/json' },
      body: body === undefined ? undefined : JSON.stringify(body),
    })
  } catch {
    throw new Problem(0, undefined, 'The service does not answer. Is it running?')
  }
  if (response.ok) return response.status === 204 ? (undefined as T) : ((await response.json()) as T)
  const problem = (await response.json().catch(() => null)) as Schemas['Problem'] | null
  throw new Problem(response.status, problem?.field, problem?.detail ?? response.statusText, problem?.reason)
}

// follow reads an answer that comes in lines of JSON, one after the other.
export async function follow<T>(path: string, each: (line: T) => void): Promise<void> {
  const response = await fetch('/api/v1' + path)
  if (!response.ok || !response.body) throw new Problem(response.status, undefined, response.statusText)
  const reader = response.body.pipeThrough(new TextDecoderStream()).getReader()
  let rest = ''
  for (;;) {
    const { done, value } = await reader.read()
    const lines = (rest + (value ?? '')).split('\n')
    rest = lines.pop() ?? ''
    for (const line of lines) if (line) each(JSON.parse(line) as T)
    if (done) return
  }
}

// sentence makes an error readable to people.
export function sentence(error: unknown): string {
  const text = error instanceof Error ? error.message : String(error)
  return text.charAt(0).toUpperCase() + text.slice(1)
}
