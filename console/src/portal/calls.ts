// What the portal asks of the service.
export type Entry = { name: string; kind: 'file' | 'folder' | 'link'; size: number; modified: string }
export type Folder = { path: string; may: string[]; free: number; cut: boolean; entries: Entry[] }
export type Holder = { account: string; name: string }

export class Refusal extends Error {
  constructor(
    readonly status: number,
    text: string,
    readonly reason = '',
  ) {
    super(text.charAt(0).toUpperCase() + text.slice(1))
  }
}

const offline = () => new Refusal(0, 'the service does not answer: is the line up?')

async function refusal(response: Response): Promise<Refusal> {
  const problem = await response.json().catch(() => null)
  return new Refusal(response.status, problem?.detail ?? response.statusText, problem?.reason)
}

export async function call<T = void>(method: string, path: string, body?: unknown): Promise<T> {
  const response = await fetch('/portal/api/v1' + path, {
    method,
    headers: body === undefined ? {} : { 'Content-Type': 'application/json' },
    body: body === undefined ? undefined : JSON.stringify(body),
  }).catch(() => {
    throw offline()
  })
  if (!response.ok) throw await refusal(response)
  return response.status === 204 ? (undefined as T) : response.json()
}

// fileAt is the address of a file; every part of the path is written so that it stays one.
export const fileAt = (path: string) => '/portal/files' + path.split('/').map(encodeURIComponent).join('/')
// zipAt is the address of a folder, or some of what is in it, as one archive.
export const zipAt = (path: string, names: string[]) => '/portal/zip?' + new URLSearchParams([['path', path], ...names.map((name) => ['name', name])])
export const join = (folder: string, name: string) => (folder === '/' ? '' : folder) + '/' + name

// put sends a file and tells how far it is; a file of that name is left alone unless replace is said.
export function put(path: string, file: File, replace: boolean, progress: (sent: number) => void, stop: AbortSignal): Promise<void> {
  return new Promise((done, failed) => {
    const request = new XMLHttpRequest()
    request.open('PUT', fileAt(path))
    request.responseType = 'json'
    if (!replace) request.setRequestHeader('If-None-Match', '*')
    request.upload.onprogress = (event) => progress(event.loaded)
    request.onload = () => (request.status < 300 ? done() : failed(new Refusal(request.status, request.response?.detail ?? request.statusText, request.response?.reason)))
    request.onerror = () => failed(offline())
    request.onabort = () => failed(new Refusal(0, 'it was stopped'))
    stop.addEventListener('abort', () => request.abort())
    request.send(file)
  })
}
