// Where there are scripts, files are left piece by piece, with their progress, and go on after a broken line.
import '@fontsource-variable/source-sans-3'
import '../look.css'
import '../portal/portal.css'
import './pass.css'
import { Upload } from 'tus-js-client'
import { size } from '@/format'

if (matchMedia('(prefers-color-scheme: dark)').matches) document.documentElement.classList.add('dark')

const form = document.querySelector<HTMLFormElement>('#drop')
const home = location.pathname
const delays = [500, 1000, 2000, 4000, 8000, 15000, 30000, 60000, 60000]

function add<K extends keyof HTMLElementTagNameMap>(to: Element, tag: K, text = '', kind = ''): HTMLElementTagNameMap[K] {
  const made = document.createElement(tag)
  made.textContent = text
  if (kind) made.className = kind
  to.append(made)
  return made
}

// said is what the service answers to a request that it refuses.
function said(body: string | undefined, status: number): string {
  try {
    return JSON.parse(body ?? '').detail
  } catch {
    return status ? `the service answered ${status}` : 'the service does not answer: is the line up?'
  }
}

async function leave(file: File, row: HTMLElement): Promise<void> {
  row.textContent = ''
  add(row, 'span', file.name, 'name')
  const bar = add(row, 'progress')
  bar.max = file.size || 1
  bar.setAttribute('aria-label', file.name)
  const state = add(row, 'span', 'waits', 'soft')
  try {
    await new Promise<void>((done, failed) => {
      const upload = new Upload(file, {
        endpoint: home + 'uploads',
        metadata: { filename: file.name },
        retryDelays: delays,
        removeFingerprintOnSuccess: true,
        onProgress: (sent) => {
          bar.value = sent
          state.textContent = `${size(sent)} of ${size(file.size)}`
        },
        onError: (error) => {
          const response = 'originalResponse' in error ? error.originalResponse : null
          failed(new Error(said(response?.getBody(), response?.getStatus() ?? 0)))
        },
        onSuccess: () => done(),
      })
      void upload.findPreviousUploads().then((before) => {
        if (before[0]) upload.resumeFromPreviousUpload(before[0])
        upload.start()
      })
    })
    row.remove()
    const own = document.querySelector<HTMLElement>('#own')!
    own.hidden = false
    const item = add(own.querySelector('ul')!, 'li', file.name + ' ')
    add(item, 'span', size(file.size), 'soft')
  } catch (error) {
    bar.remove()
    state.className = 'wrong'
    state.textContent = (error as Error).message
    add(row, 'button', 'Try again').onclick = () => void leave(file, row)
  }
}

async function send(files: File[]) {
  const list = document.querySelector('#sending')!
  const rows = files.map((file) => ({ file, row: add(list, 'div', file.name, 'sends') }))
  for (const { file, row } of rows) await leave(file, row)
}

if (form) {
  const field = form.querySelector<HTMLInputElement>('input[type=file]')!
  const button = form.querySelector('button')!
  const wrong = add(form, 'p', '', 'wrong')
  wrong.setAttribute('role', 'alert')
  const begin = async (files: File[]) => {
    wrong.textContent = ''
    button.disabled = true
    try {
      if (form.querySelector('input[name=name]')) {
        const told = new FormData(form)
        const answer = await fetch(home + 'told', {
          method: 'POST',
          headers: { 'Content-Type': 'application/json' },
          body: JSON.stringify({ name: told.get('name'), mail: told.get('mail'), message: told.get('message') }),
        })
        if (!answer.ok) throw new Error(said(await answer.text(), answer.status))
      }
      field.value = ''
      await send(files)
    } catch (error) {
      wrong.textContent = (error as Error).message
    } finally {
      button.disabled = false
    }
  }
  form.onsubmit = (event) => {
    event.preventDefault()
    void begin([...field.files!])
  }
  addEventListener('dragover', (event) => event.preventDefault())
  addEventListener('drop', (event) => {
    event.preventDefault()
    const files = [...(event.dataTransfer?.files ?? [])]
    if (files.length && form.reportValidity !== undefined) {
      field.required = false
      if (form.reportValidity()) void begin(files)
      field.required = true
    }
  })
  addEventListener('beforeunload', (event) => {
    if (button.disabled) event.preventDefault()
  })
}
