// What the portal asks of the service.
export type Entry = { name: string; kind: 'file' | 'folder' | 'link'; size: number; modified?: string; picture?: boolean }
export type Folder = { path: string; may: string[]; free: number; room: number; cut: boolean; binSeconds: number }
export type Binned = { id: string; path: string; folder: boolean; size: number; deleted: string; until: string }
export type Found = Entry & { in: string }
export type Holder = { account: string; name: string; recovery?: string[]; passes: 'none' | 'fetch' | 'drop' | 'both'; passDays: number }
export type SSO = { source: string; label: string }
export type Door = { name: string; banner: string; sso: SSO[]; known: boolean }
export type Codes = { secret: string; uri: string; picture: string }

export class Refusal extends Error {
  constructor(
    readonly status: number,
    text: string,
    readonly reason = '',
    readonly field = '',
  ) {
    super(text.charAt(0).toUpperCase() + text.slice(1))
  }
}

export const api = '/portal/api/v1'
const offline = () => new Refusal(0, 'the service does not answer: is the line up?')

export async function refusal(response: Response): Promise<Refusal> {
  const problem = await response.json().catch(() => null)
  return new Refusal(response.status, problem?.detail ?? response.statusText, problem?.reason, problem?.field)
}

export async function send(path: string, init: RequestInit): Promise<Response> {
  const response = await fetch(path, init).catch((error) => {
    throw error?.name === 'AbortError' ? error : offline()
  })
  if (!response.ok) throw await refusal(response)
  return response
}

export async function call<T = void>(method: string, path: string, body?: unknown): Promise<T> {
  const response = await send(api + path, {
    method,
    headers: body === undefined ? {} : { 'Content-Type': 'application/json' },
    body: body === undefined ? undefined : JSON.stringify(body),
  })
  return response.status === 204 ? (undefined as T) : response.json()
}

// leaveFor goes to a single sign-on, for this browser or for an SFTP client that waits under a link.
export async function leaveFor(source: string, link = ''): Promise<void> {
  location.assign((await call<{ url: string }>('POST', '/sso', { source, ...(link && { link }) })).url)
  await new Promise(() => undefined) // until the page is gone
}

// lines reads an answer of which each line is JSON, while it comes. An answer that breaks off is an error.
export async function lines(path: string, each: (line: any) => void, signal?: AbortSignal): Promise<void> {
  const response = await send(api + path, { headers: { Accept: 'application/jsonl' }, signal })
  const reader = response.body!.pipeThrough(new TextDecoderStream()).getReader()
  let rest = ''
  for (;;) {
    const { done, value } = await reader.read()
    if (done) break
    const parts = (rest + value).split('\n')
    rest = parts.pop()!
    for (const part of parts) if (part) each(JSON.parse(part))
  }
}

// Addresses of a file; every part of the path is written so that it stays one.
const written = (path: string) => path.split('/').map(encodeURIComponent).join('/')
export const fileAt = (path: string) => '/portal/files' + written(path)
export const lookAt = (path: string) => '/portal/look' + written(path)
export const previewAt = (path: string, side: 320 | 1600) => `/portal/preview${written(path)}?side=${side}`
// archiveAt is the address of a folder, or some of what is in it, as one archive.
export const archiveAt = (kind: 'zip' | 'tar', path: string, names: string[]) => `/portal/${kind}?` + new URLSearchParams([['path', path], ...names.map((name) => ['name', name])])
export const join = (folder: string, name: string) => (folder === '/' ? '' : folder) + '/' + name
export const parent = (path: string) => path.slice(0, path.lastIndexOf('/')) || '/'
export const base = (path: string) => path.slice(path.lastIndexOf('/') + 1)
