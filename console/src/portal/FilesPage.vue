<script setup lang="ts">
import { computed, nextTick, onMounted, onUnmounted, ref } from 'vue'
import { minute, size } from '@/format'
import { call, fileAt, join, put, Refusal, zipAt, type Entry, type Folder } from './calls'

const emit = defineEmits<{ gone: [] }>()
const folder = ref<Folder | null>(null)
const wrong = ref('')
const find = ref('')
const doing = ref<{ what: 'folder' | 'rename' | 'delete'; entry?: Entry; text: string } | null>(null)
const over = ref(false)
const picked = ref<string[]>([])
const picker = ref<HTMLInputElement>()
const field = ref<HTMLInputElement[] | HTMLInputElement>()

type Sending = { name: string; sent: number; size: number; state: 'waits' | 'runs' | 'done' | 'failed' | 'there'; say: string; stop: AbortController; file: File; to: string }
const sending = ref<Sending[]>([])

const here = () => decodeURIComponent(location.hash.slice(1)) || '/'
const crumbs = computed(() => {
  const parts = (folder.value?.path ?? '/').split('/').filter(Boolean)
  return parts.map((name, i) => ({ name, path: '/' + parts.slice(0, i + 1).join('/') }))
})
const may = (right: string) => folder.value?.may.includes(right) ?? false
const order = (e: Entry) => (e.kind === 'folder' ? '0' : '1') + e.name.toLowerCase()
const shown = computed(() =>
  (folder.value?.entries ?? [])
    .filter((e) => e.name.toLowerCase().includes(find.value.toLowerCase()))
    .sort((a, b) => order(a).localeCompare(order(b), undefined, { numeric: true })),
)
// A long folder is drawn as far as somebody reads.
const most = ref(500)

function refuse(error: unknown) {
  if (error instanceof Refusal && error.status === 401) emit('gone')
  else wrong.value = (error as Error).message
}
async function load() {
  wrong.value = ''
  try {
    folder.value = await call<Folder>('GET', '/folder?path=' + encodeURIComponent(here()))
  } catch (error) {
    refuse(error)
  }
}
async function enter() {
  find.value = ''
  picked.value = []
  doing.value = null
  most.value = 500
  await load()
}
onMounted(() => {
  addEventListener('hashchange', enter)
  void enter()
})
onUnmounted(() => removeEventListener('hashchange', enter))
const linkTo = (path: string) => '#' + encodeURIComponent(path).replaceAll('%2F', '/')

async function act(change: () => Promise<unknown>) {
  wrong.value = ''
  try {
    await change()
    doing.value = null
    await load()
  } catch (error) {
    refuse(error)
  }
}
async function begin(what: 'folder' | 'rename' | 'delete', entry?: Entry) {
  doing.value = { what, entry, text: what === 'rename' ? (entry?.name ?? '') : '' }
  await nextTick()
  const one = Array.isArray(field.value) ? field.value[0] : field.value
  one?.focus()
}
function finish() {
  const d = doing.value
  const at = folder.value?.path ?? '/'
  if (!d) return
  if (d.what === 'folder') void act(() => call('POST', '/folders', { path: join(at, d.text) }))
  if (d.what === 'rename') void act(() => call('POST', '/renames', { path: join(at, d.entry!.name), to: join(at, d.text) }))
  if (d.what === 'delete') void act(() => call('POST', '/removals', { path: join(at, d.entry!.name) }))
}

function add(files: FileList | null | undefined) {
  for (const file of files ?? []) sending.value.push({ name: file.name, sent: 0, size: file.size, state: 'waits', say: '', stop: new AbortController(), file, to: join(folder.value?.path ?? '/', file.name) })
  void send()
}
let busy = false
async function send() {
  if (busy) return
  busy = true
  for (let one; (one = sending.value.find((s) => s.state === 'waits')); ) await sendOne(one, false)
  busy = false
  await load()
}
async function sendOne(one: Sending, replace: boolean) {
  one.state = 'runs'
  one.say = ''
  try {
    await put(one.to, one.file, replace, (sent) => (one.sent = sent), one.stop.signal)
    one.state = 'done'
    one.sent = one.size
  } catch (error) {
    const there = error instanceof Refusal && error.reason === 'already-there'
    one.state = there ? 'there' : 'failed'
    one.say = there ? 'a file of that name is there' : (error as Error).message
    if (error instanceof Refusal && error.status === 401) emit('gone')
  }
}
const replaceIt = async (one: Sending) => {
  await sendOne(one, true)
  await load()
}
function pick() {
  add(picker.value?.files)
  if (picker.value) picker.value.value = '' // the same file may be picked again
}
function drop(event: DragEvent) {
  over.value = false
  add(event.dataTransfer?.files)
}
</script>

<template>
  <nav aria-label="Folder">
    <a :href="linkTo('/')">Files</a><template v-for="c in crumbs" :key="c.path"> / <a :href="linkTo(c.path)">{{ c.name }}</a></template>
  </nav>
  <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
  <template v-if="folder">
    <div class="tools">
      <button v-if="may('upload')" class="first" @click="picker?.click()">Upload files</button>
      <button v-if="may('mkdir')" @click="begin('folder')">New folder</button>
      <a v-if="may('download') && folder.entries.length" class="button" :href="zipAt(folder.path, picked)" download>{{ picked.length ? `Download ${picked.length} as ZIP` : 'Download all as ZIP' }}</a>
      <input v-if="folder.entries.length > 8" v-model="find" type="search" aria-label="Find in this folder" placeholder="Find in this folder" />
      <span v-if="folder.free && may('upload')" class="soft">{{ size(folder.free) }} free</span>
      <input ref="picker" type="file" multiple hidden @change="pick" />
    </div>
    <form v-if="doing?.what === 'folder'" class="ask" @submit.prevent="finish">
      <label>Name of the folder<input ref="field" v-model="doing.text" name="folder" /></label>
      <button class="first" :disabled="!doing.text">Make it</button><button type="button" @click="doing = null">Cancel</button>
    </form>
    <ul v-if="sending.length" class="sheet sending" aria-label="Uploads">
      <li v-for="(s, i) in sending" :key="i">
        <span class="name">{{ s.name }}</span>
        <progress v-if="s.state === 'runs' || s.state === 'waits'" :value="s.sent" :max="s.size || 1" :aria-label="s.name">{{ s.sent }}</progress>
        <span :class="{ wrong: s.state === 'failed' || s.state === 'there' }" role="status">{{ s.state === 'done' ? '✓ uploaded' : s.say }}</span>
        <button v-if="s.state === 'there' && may('overwrite')" class="plain" @click="replaceIt(s)">Replace it</button>
        <button v-if="s.state === 'failed'" class="plain" @click="replaceIt(s)">Try again</button>
        <button v-if="s.state === 'runs'" class="plain" @click="s.stop.abort()">Stop</button>
        <button v-else-if="s.state !== 'waits'" class="plain" @click="sending.splice(i, 1)">Dismiss</button>
      </li>
    </ul>
    <div class="sheet" :class="{ over }" @dragover.prevent="over = may('upload')" @dragleave="over = false" @drop.prevent="may('upload') && drop($event)">
      <table aria-label="Files">
        <thead><tr><th v-if="may('download')"><input type="checkbox" aria-label="All" :checked="picked.length > 0 && picked.length === shown.length" @change="picked = picked.length ? [] : shown.map((e) => e.name)" /></th><th>Name</th><th class="number">Size</th><th>Changed, UTC</th><th><span class="hidden">Actions</span></th></tr></thead>
        <tbody>
          <tr v-for="e in shown.slice(0, most)" :key="e.name">
            <td v-if="may('download')"><input v-model="picked" type="checkbox" :value="e.name" :aria-label="e.name" /></td>
            <td class="name">
              <form v-if="doing?.what === 'rename' && doing.entry === e" class="ask" @submit.prevent="finish"><input ref="field" v-model="doing.text" name="rename" aria-label="New name" /><button class="first" :disabled="!doing.text">Rename</button><button type="button" @click="doing = null">Cancel</button></form>
              <a v-else-if="e.kind === 'folder'" :href="linkTo(join(folder.path, e.name))">{{ e.name }}/</a>
              <a v-else-if="may('download')" :href="fileAt(join(folder.path, e.name))" download>{{ e.name }}</a>
              <template v-else>{{ e.name }}</template>
            </td>
            <td class="number">{{ e.kind === 'folder' ? '' : size(e.size) }}</td>
            <td>{{ minute(e.modified) }}</td>
            <td class="acts">
              <form v-if="doing?.what === 'delete' && doing.entry === e" @submit.prevent="finish"><button ref="field" class="first">Delete for good</button><button type="button" @click="doing = null">Keep</button></form>
              <template v-else>
                <button v-if="may('rename')" class="plain" :aria-label="`Rename ${e.name}`" @click="begin('rename', e)">Rename</button>
                <button v-if="may(e.kind === 'folder' ? 'rmdir' : 'delete')" class="plain" :aria-label="`Delete ${e.name}`" @click="begin('delete', e)">Delete</button>
              </template>
            </td>
          </tr>
        </tbody>
      </table>
      <p v-if="!shown.length" class="none">{{ find ? 'Nothing here has that in its name.' : may('upload') ? 'Nothing is here yet. Drag files here, or upload them.' : 'Nothing is here.' }}</p>
      <p v-if="shown.length > most" class="none"><button @click="most += 2000">Show more: {{ shown.length - most }} further</button></p>
      <p v-if="folder.cut" class="none">There is more in this folder than a page can show: use a transfer client for it.</p>
    </div>
  </template>
</template>

<style scoped>
nav { font-size: 19px; overflow-wrap: anywhere; }
.tools { display: flex; flex-wrap: wrap; gap: 10px; align-items: center; }
.tools input[type='search'] { width: auto; flex: 1 1 180px; }
.ask { display: flex; flex-wrap: wrap; gap: 8px; align-items: end; }
.ask label, .ask input { flex: 1 1 200px; }
.name { white-space: normal; overflow-wrap: anywhere; min-width: 140px; }
.acts { text-align: right; }
.button { text-decoration: none; }
td input[type='checkbox'], th input[type='checkbox'] { width: 18px; height: 18px; margin: 0; accent-color: var(--spruce); }
.over { outline: 3px dashed var(--spruce); outline-offset: 4px; }
.sheet { overflow-x: auto; }
.sending { list-style: none; margin: 0; padding: 8px 14px; display: grid; gap: 6px; }
.sending li { display: flex; flex-wrap: wrap; gap: 4px 14px; align-items: center; }
.sending .name { flex: 1 1 200px; }
.hidden { position: absolute; width: 1px; height: 1px; overflow: hidden; clip-path: inset(50%); }
td { font-size: 16px; }
</style>
