// The uploads of this page: several at once, each of which goes on from where it broke off (tus 1.0.0).
import { computed, reactive } from 'vue'
import { defaultOptions, Upload, type PreviousUpload } from 'tus-js-client'
import { api, base, call, join, parent, Refusal, send } from './calls'

export type Sending = {
  key: number
  name: string
  path: string
  size: number
  sent: number
  state: 'waits' | 'runs' | 'checks' | 'paused' | 'there' | 'failed' | 'done'
  say: string
  replace: boolean
}
type Work = { file: File; upload?: Upload; finish?: string; hash?: Promise<string>; hashing?: Worker; stop?: AbortController }

// What comes in one request, and how many at once.
const small = 4 << 20
const atOnce = 3
const delays = [500, 1000, 2000, 4000, 8000, 15000, 30000, 60000, 60000, 60000]

export const sending = reactive<Sending[]>([])
const works = new Map<number, Work>()
const folders = new Map<string, Promise<void>>()
// What is to become of files whose names are taken: asked once, for all of one batch.
export type Choice = 'ask' | 'replace' | 'both' | 'leave'
const state = reactive({ choice: 'ask' as Choice, signedOut: false })
let account = ''
let next = 1
let changed: (folder: string) => void = () => {}
let gone: () => void = () => {}

export const taken = computed(() => sending.filter((s) => s.state === 'there'))
export const running = computed(() => sending.filter((s) => s.state === 'runs' || s.state === 'waits' || s.state === 'checks'))
export const total = computed(() => {
  let size = 0
  let sent = 0
  let done = 0
  for (const s of sending) {
    size += s.size
    sent += s.state === 'done' ? s.size : Math.min(s.sent, s.size)
    if (s.state === 'done') done++
  }
  return { size, sent, done, all: sending.length }
})

addEventListener('beforeunload', (event) => {
  if (running.value.length) event.preventDefault()
})

// begin says whose uploads these are, who is told when a folder has another file, and who when the sign-in has ended.
export function begin(name: string, tell: (folder: string) => void, ended: () => void) {
  if (account && account !== name) stopAll()
  account = name
  changed = tell
  gone = ended
  if (state.signedOut) {
    state.signedOut = false
    for (const s of sending) if (s.state === 'paused') resume(s)
  }
}

export function add(files: { file: File; path: string }[]) {
  if (!running.value.length) state.choice = 'ask'
  for (const { file, path } of files) {
    const one: Sending = { key: next++, name: base(path), path, size: file.size, sent: 0, state: 'waits', say: '', replace: false }
    sending.push(one)
    works.set(one.key, { file })
  }
  pump()
}

function pump() {
  let busy = sending.filter((s) => s.state === 'runs' || s.state === 'checks').length
  for (const s of sending) {
    if (busy >= atOnce) return
    if (s.state !== 'waits') continue
    busy++
    void run(s)
  }
}

async function run(s: Sending) {
  const work = works.get(s.key)!
  s.state = 'runs'
  s.say = ''
  try {
    await ensure(parent(s.path))
    if (work.finish) await finish(s, work)
    else if (work.file.size <= small) await whole(s, work)
    else await pieces(s, work)
    s.state = 'done'
    s.sent = s.size
    work.hashing?.terminate()
    works.delete(s.key)
    changed(parent(s.path))
  } catch (error) {
    failed(s, error)
  }
  pump()
}

function failed(s: Sending, error: unknown) {
  if ((s.state as string) === 'paused') return
  const why = error instanceof Refusal ? error : new Refusal(0, (error as Error).message ?? 'it failed')
  if (why.reason === 'already-there') {
    s.state = 'there'
    s.say = 'a file of that name is there'
    if (state.choice !== 'ask') settle(s, state.choice)
  } else if (why.status === 401) {
    s.state = 'paused'
    s.say = 'goes on when you have signed in again'
    state.signedOut = true
    gone()
  } else {
    s.state = 'failed'
    s.say = why.message
  }
}

// ensure makes the folders that a file is to lie in.
function ensure(folder: string): Promise<void> {
  if (folder === '/') return Promise.resolve()
  let made = folders.get(folder)
  if (!made) {
    made = call('GET', '/stat?' + new URLSearchParams({ path: folder }))
      .catch(async (error) => {
        if (!(error instanceof Refusal) || error.status !== 404) throw error
        await ensure(parent(folder))
        await call('POST', '/folders', { path: folder })
      })
      .catch((error) => {
        folders.delete(folder)
        if (!(error instanceof Refusal) || error.reason !== 'already-there') throw error
      })
      .then(() => undefined)
    folders.set(folder, made)
    void made.then(() => setTimeout(() => folders.delete(folder), 10_000), () => undefined)
  }
  return made
}

const encoded = (values: Record<string, string>) =>
  Object.entries(values)
    .map(([name, value]) => `${name} ${btoa(String.fromCharCode(...new TextEncoder().encode(value)))}`)
    .join(',')

const pause = (ms: number) => new Promise((done) => setTimeout(done, ms))

// whole sends a small file in one request, with its hash.
async function whole(s: Sending, work: Work) {
  const bytes = await work.file.arrayBuffer()
  const sum = await (crypto.subtle ? crypto.subtle.digest('SHA-256', bytes).then((b) => [...new Uint8Array(b)].map((x) => x.toString(16).padStart(2, '0')).join('')) : hashOf(work))
  for (let attempt = 0; ; attempt++) {
    work.stop = new AbortController()
    try {
      await send(api + '/uploads', {
        method: 'POST',
        headers: { 'Tus-Resumable': '1.0.0', 'Upload-Length': String(s.size), 'Upload-Metadata': encoded({ path: s.path, sha256: sum, ...(s.replace && { replace: 'yes' }) }), 'Content-Type': 'application/offset+octet-stream' },
        body: bytes,
        signal: work.stop.signal,
      })
      return
    } catch (error) {
      // It may have come to its end, and only the answer was lost: then its name is taken.
      if (!(error instanceof Refusal) || !(error.status === 0 || error.status === 503) || attempt >= delays.length) throw error
      await pause(delays[attempt]!)
    }
  }
}

function hashOf(work: Work): Promise<string> {
  work.hash ??= new Promise((done, wrong) => {
    work.hashing = new Worker(new URL('./hash.worker.ts', import.meta.url), { type: 'module' })
    work.hashing.onmessage = (event) => (event.data.hash ? done(event.data.hash) : wrong(new Error('the file can no longer be read: add it again')))
    work.hashing.onerror = () => wrong(new Error('the hash of the file could not be computed'))
    work.hashing.postMessage(work.file)
  })
  work.hash.catch(() => undefined)
  return work.hash
}

// kept remembers the uploads of this browser. One that is refused for a while, as when the sign-in has ended, is not
// forgotten: only one that the service no longer has.
const kept = () => {
  const storage = defaultOptions.urlStorage
  let status = 0
  return {
    heard: (now: number) => (status = now),
    storage: {
      ...storage,
      findAllUploads: () => storage.findAllUploads(),
      findUploadsByFingerprint: (print: string) => storage.findUploadsByFingerprint(print),
      addUpload: (print: string, upload: PreviousUpload) => storage.addUpload(print, upload),
      removeUpload: async (key: string) => {
        if (status < 300 || status === 404 || status === 410) await storage.removeUpload(key)
      },
    },
  }
}

// pieces sends a large file, and goes on with one that was begun before.
async function pieces(s: Sending, work: Work) {
  void hashOf(work)
  const memory = kept()
  await new Promise<void>((done, wrong) => {
    const upload = new Upload(work.file, {
      urlStorage: memory.storage,
      onAfterResponse: (_, answer) => void memory.heard(answer.getStatus()),
      endpoint: api + '/uploads',
      metadata: { path: s.path, hash: 'later', ...(s.replace && { replace: 'yes' }) },
      retryDelays: delays,
      removeFingerprintOnSuccess: true,
      fingerprint: async (file: any) => `urbankeep ${account} ${s.path} ${file.size} ${file.lastModified}`,
      onShouldRetry: (error) => {
        const status = error.originalResponse?.getStatus() ?? 0
        return status === 0 || status === 409 || status === 423 || status === 503
      },
      onProgress: (sent) => (s.sent = sent),
      onSuccess: () => done(),
      onError: (error: any) => {
        const answer = error.originalResponse
        let problem: any = null
        try {
          problem = JSON.parse(answer?.getBody() ?? '')
        } catch {}
        wrong(answer ? new Refusal(answer.getStatus(), problem?.detail ?? 'it was refused', problem?.reason) : new Refusal(0, 'the line is broken: try again to go on from there'))
      },
    })
    work.upload = upload
    upload.findPreviousUploads().then((before) => {
      if (before[0]) upload.resumeFromPreviousUpload(before[0])
      upload.start()
    }, wrong)
  })
  work.finish = work.upload!.url!
  await finish(s, work)
}

// finish says the hash of what was sent, upon which it gets its name.
async function finish(s: Sending, work: Work) {
  s.state = 'checks'
  s.say = 'checked'
  const hash = await hashOf(work)
  for (let attempt = 0; ; attempt++) {
    try {
      await send(work.finish + '/finish', { method: 'POST', headers: { 'Content-Type': 'application/json' }, body: JSON.stringify({ hash, path: s.path, replace: s.replace }) })
      return
    } catch (error) {
      if (error instanceof Refusal && (error.status === 404 || error.reason === 'bad-hash')) work.finish = undefined // it is begun anew
      if (!(error instanceof Refusal) || !(error.status === 0 || error.status === 503) || attempt >= delays.length) throw error
      await pause(delays[attempt]!)
    }
  }
}

// settle says what is to become of a file whose name is taken.
export function settle(s: Sending, choice: Choice) {
  if (choice === 'leave') return stop(s)
  if (choice === 'replace') s.replace = true
  if (choice === 'both') {
    const dot = s.name.lastIndexOf('.')
    const [stem, end] = dot > 0 ? [s.name.slice(0, dot), s.name.slice(dot)] : [s.name, '']
    const count = /^(.*) \((\d+)\)$/.exec(stem)
    s.name = count ? `${count[1]} (${+count[2]! + 1})${end}` : `${stem} (2)${end}`
    s.path = join(parent(s.path), s.name)
  }
  s.state = 'waits'
  pump()
}

export function settleAll(choice: Choice) {
  state.choice = choice
  for (const s of [...taken.value]) settle(s, choice)
}

export function halt(s: Sending) {
  s.state = 'paused'
  s.say = ''
  const work = works.get(s.key)
  void work?.upload?.abort()
  work?.stop?.abort()
  pump()
}

export function resume(s: Sending) {
  s.state = 'waits'
  pump()
}

// stop gives an upload up, and takes back what has come of it.
export function stop(s: Sending) {
  const work = works.get(s.key)
  if (s.state !== 'done') {
    s.state = 'paused'
    if (work?.upload?.url) void work.upload.abort(true).catch(() => undefined)
    work?.stop?.abort()
    work?.hashing?.terminate()
  }
  works.delete(s.key)
  const at = sending.findIndex((one) => one.key === s.key)
  if (at >= 0) sending.splice(at, 1)
  pump()
}

function stopAll() {
  for (const s of [...sending]) stop(s)
}

export function dismissDone() {
  for (let i = sending.length - 1; i >= 0; i--) if (sending[i]!.state === 'done') sending.splice(i, 1)
}

// dropped gives the files that were dragged onto the page, folders and all, for a folder.
export async function dropped(data: DataTransfer, into: string): Promise<{ file: File; path: string }[]> {
  const found: { file: File; path: string }[] = []
  const walk = async (entry: any, at: string): Promise<void> => {
    if (entry.isFile) {
      found.push({ file: await new Promise<File>((done, wrong) => entry.file(done, wrong)), path: join(at, entry.name) })
      return
    }
    const reader = entry.createReader()
    for (;;) {
      const some: any[] = await new Promise((done, wrong) => reader.readEntries(done, wrong))
      if (!some.length) break
      for (const one of some) await walk(one, join(at, entry.name))
    }
  }
  const entries = [...data.items].map((item) => item.webkitGetAsEntry?.()).filter(Boolean)
  if (entries.length) for (const entry of entries) await walk(entry, into)
  else for (const file of data.files) found.push({ file, path: join(into, file.name) })
  return found
}

// picked gives the files that were picked, with the folders that they lie in.
export const picked = (files: FileList | null, into: string) => [...(files ?? [])].map((file) => ({ file, path: into === '/' ? '/' + (file.webkitRelativePath || file.name) : into + '/' + (file.webkitRelativePath || file.name) }))
