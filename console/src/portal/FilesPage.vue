<script setup lang="ts">
import { computed, nextTick, onMounted, onUnmounted, ref, shallowRef, watchEffect } from 'vue'
import { days, size } from '@/format'
import { archiveAt, call, fileAt, join, lines, parent, Refusal, type Entry, type Folder, type Found } from './calls'
import BinSheet from './BinSheet.vue'
import FileList from './FileList.vue'
import { kindOf } from './kinds'
import LookView from './LookView.vue'
import PassForm from './PassForm.vue'
import SearchSheet from './SearchSheet.vue'
import { add, dropped, picked as pickedFiles } from './uploads'
import WhySheet from './WhySheet.vue'

const props = defineProps<{ passes: 'none' | 'fetch' | 'drop' | 'both'; passDays: number }>()
const emit = defineEmits<{ gone: []; title: [of: string] }>()
const folder = ref<Folder | null>(null)
const entries = shallowRef<Entry[]>([])
const reading = ref(false)
const wrong = ref('')
const find = ref('')
const sort = ref<{ by: 'name' | 'size' | 'modified'; down: boolean }>({ by: 'name', down: false })
const shape = ref<'list' | 'previews'>((localStorage.getItem('portal-shape') as 'list') || 'list')
const chosen = ref(new Set<string>())
const current = ref(0)
const over = ref(false)
const doing = ref<{ what: 'folder' | 'rename' | 'delete'; text: string } | null>(null)
const carried = ref<{ from: string; names: string[] } | null>(null)
const looking = ref(-1)
const why = ref(false)
const searching = ref(false)
const bin = ref(false)
const pass = ref<{ kind: 'fetch' | 'drop'; paths: string[] } | null>(null)
const undo = ref<{ say: string; ids: string[] } | null>(null)
const busy = ref('')
const files = ref<HTMLInputElement>()
const tree = ref<HTMLInputElement>()
const field = ref<HTMLInputElement>()
const list = ref<InstanceType<typeof FileList>>()

const here = () => decodeURIComponent(location.hash.slice(1)) || '/'
const linkTo = (path: string) => '#' + encodeURIComponent(path).replaceAll('%2F', '/')
const crumbs = computed(() => {
  const parts = (folder.value?.path ?? '/').split('/').filter(Boolean)
  return parts.map((name, i) => ({ name, path: '/' + parts.slice(0, i + 1).join('/') }))
})
const passes = (kind: 'fetch' | 'drop') => props.passes === 'both' || props.passes === kind
const may = (right: string) => folder.value?.may.includes(right) ?? false
const compare = new Intl.Collator(undefined, { numeric: true }).compare
const shown = computed(() => {
  const text = find.value.trim().toLowerCase()
  const some = text ? entries.value.filter((e) => e.name.toLowerCase().includes(text)) : entries.value.slice()
  const { by, down } = sort.value
  const order = by === 'size' ? (a: Entry, b: Entry) => a.size - b.size : by === 'modified' ? (a: Entry, b: Entry) => compare(a.modified ?? '', b.modified ?? '') : () => 0
  const sign = down ? -1 : 1
  return some.sort((a, b) => (+(b.kind === 'folder') - +(a.kind === 'folder')) || sign * (order(a, b) || compare(a.name, b.name)))
})
const selection = computed(() => {
  const picked = shown.value.filter((e) => chosen.value.has(e.name))
  return picked.length ? picked : []
})
// What a command is about: what is ticked, else the row of the keyboard.
const meant = () => (selection.value.length ? selection.value : shown.value.slice(current.value, current.value + 1))
const lookable = computed(() => shown.value.filter((e) => kindOf(e)))
// One file that is chosen is fetched as it is, not in an archive.
const single = computed(() => (may('download') && selection.value.length === 1 && selection.value[0]!.kind !== 'folder' ? selection.value[0]! : null))
const all = ref(false) // of the tools, where there is little room
const room = computed(() => (folder.value?.room ? `${size(folder.value.free)} free of ${size(folder.value.room)}` : ''))

function refuse(error: unknown) {
  if ((error as Error).name === 'AbortError') return
  if (error instanceof Refusal && error.status === 401) emit('gone')
  else wrong.value = (error as Error).message
}
let stop = new AbortController()
async function load(keep = false) {
  stop.abort()
  stop = new AbortController()
  const mine = stop
  wrong.value = ''
  reading.value = true
  const fresh: Entry[] = []
  let drawn = 0
  try {
    await lines('/folder?path=' + encodeURIComponent(here()), (line) => {
      if (mine.signal.aborted) return
      if (!Array.isArray(line)) {
        folder.value = line
        return
      }
      for (const e of line) fresh.push(e)
      // What is sorted anew with each screen would take longer than the reading: the first is, then each doubling.
      if (!keep && fresh.length >= Math.max(200, drawn * 4)) {
        drawn = fresh.length
        entries.value = fresh.slice()
      }
    }, mine.signal)
    entries.value = fresh
    chosen.value = new Set([...chosen.value].filter((name) => fresh.some((e) => e.name === name)))
  } catch (error) {
    if (!mine.signal.aborted && !keep) {
      folder.value = error instanceof Refusal && error.status === 401 ? folder.value : null
      entries.value = []
    }
    refuse(error)
  } finally {
    if (stop === mine) reading.value = false
  }
}
async function enter() {
  if (!location.hash.startsWith('#/') && location.hash !== '') return
  find.value = ''
  chosen.value = new Set()
  doing.value = null
  current.value = 0
  searching.value = why.value = bin.value = false
  pass.value = null
  entries.value = []
  const from = last
  last = here()
  await load()
  const at = from.startsWith(last) ? shown.value.findIndex((e) => join(last, e.name) === from) : -1
  if (at > 0) current.value = at
  await nextTick()
  list.value?.focus()
}
watchEffect(() => emit('title', folder.value && folder.value.path !== '/' ? folder.value.path.slice(folder.value.path.lastIndexOf('/') + 1) : 'Files'))
let last = ''
let timer = 0
function changed(event: Event) {
  const at = (event as CustomEvent<string>).detail
  if (at !== folder.value?.path && parent(at) !== folder.value?.path) return
  clearTimeout(timer)
  timer = window.setTimeout(() => void load(true), 300)
}
onMounted(() => {
  addEventListener('hashchange', enter)
  addEventListener('changed', changed)
  void enter()
})
onUnmounted(() => {
  removeEventListener('hashchange', enter)
  removeEventListener('changed', changed)
  stop.abort()
})

async function act(say: string, change: () => Promise<unknown>) {
  wrong.value = ''
  busy.value = say
  try {
    await change()
    doing.value = null
  } catch (error) {
    refuse(error)
    if (error instanceof Refusal && error.status === 401) return
    const text = wrong.value
    await load(true)
    wrong.value = text
    return
  } finally {
    busy.value = ''
  }
  await load(true)
  list.value?.focus()
}
async function ask(what: 'folder' | 'rename' | 'delete') {
  const name = meant()[0]?.name
  wrong.value = ''
  if (what !== 'folder' && !name) return
  if (what === 'rename') chosen.value = new Set([name!])
  doing.value = { what, text: (what === 'rename' && name) || '' }
  await nextTick()
  field.value?.focus()
  if (what === 'rename') field.value?.setSelectionRange(0, name!.lastIndexOf('.') > 0 ? name!.lastIndexOf('.') : name!.length)
}
async function remove(forGood: boolean) {
  const at = folder.value!.path
  const items = meant()
  const ids: string[] = []
  undo.value = null
  await act('Deleting…', async () => {
    for (const e of items) {
      const binned = await call<{ id: string } | undefined>('POST', '/removals', { path: join(at, e.name), inside: true, forGood })
      if (binned) ids.push(binned.id)
    }
  })
  if (!ids.length) return
  undo.value = { say: ids.length === 1 && items.length === 1 ? `${items[0]!.name} is in the bin.` : `${ids.length.toLocaleString('en')} items are in the bin.`, ids }
  dispatchEvent(new Event('binned'))
}
async function takeBack() {
  const ids = undo.value!.ids.reverse()
  undo.value = null
  await act('Putting back…', async () => {
    for (const id of ids) await call('PUT', '/bin/' + id, {})
  })
  dispatchEvent(new Event('binned'))
}
function finish() {
  const d = doing.value!
  const at = folder.value!.path
  if (d.what === 'folder') void act('', () => call('POST', '/folders', { path: join(at, d.text) }))
  else if (d.what === 'rename') void act('', () => call('POST', '/renames', { path: join(at, meant()[0]!.name), to: join(at, d.text) }))
  else void remove(false)
}
async function settle(how: 'renames' | 'copies', into: string, what = carried.value) {
  carried.value = null
  if (!what || (what.from === into && how === 'renames')) return
  await act(how === 'copies' ? 'Copying…' : 'Moving…', async () => {
    for (const name of what.names) {
      const to = what.from === into ? join(into, freeName(name)) : join(into, name)
      await call('POST', '/' + how, { path: join(what.from, name), to })
    }
  })
  chosen.value = new Set()
}
function freeName(name: string) {
  const dot = name.lastIndexOf('.')
  const [stem, end] = dot > 0 ? [name.slice(0, dot), name.slice(dot)] : [name, '']
  for (let n = 2; ; n++) if (!entries.value.some((e) => e.name === `${stem} (${n})${end}`)) return `${stem} (${n})${end}`
}
function open(e: Entry) {
  const at = join(folder.value!.path, e.name)
  if (e.kind === 'folder') location.hash = linkTo(at)
  else if (may('download') && kindOf(e)) looking.value = lookable.value.indexOf(e)
  else if (may('download')) save(fileAt(at))
}
function save(url: string) {
  const a = document.createElement('a')
  a.href = url
  a.download = ''
  a.click()
}
const archive = (kind: 'zip' | 'tar') => archiveAt(kind, folder.value!.path, selection.value.map((e) => e.name))
function key(event: KeyboardEvent) {
  if (event.key === 'F2' && may('rename')) void ask('rename')
  else if (event.key === 'Delete' && (may('delete') || may('rmdir'))) void ask('delete')
  else if (event.key === 'Backspace' && folder.value!.path !== '/') location.hash = linkTo(parent(folder.value!.path))
  else if (event.key === 'z' && (event.ctrlKey || event.metaKey) && undo.value) void takeBack()
  else if (event.key === 'Escape' && doing.value) doing.value = null
  else return
  event.preventDefault()
}
function pick(input: HTMLInputElement | undefined) {
  wrong.value = ''
  if (!input || !folder.value) return
  add(pickedFiles(input.files, folder.value.path))
  input.value = '' // the same file may be picked again
}
const ours = 'application/x-urbankeep-names'
function grab(event: DragEvent, e: Entry) {
  const names = chosen.value.has(e.name) ? selection.value.map((one) => one.name) : [e.name]
  event.dataTransfer!.setData(ours, JSON.stringify({ from: folder.value!.path, names }))
  event.dataTransfer!.effectAllowed = 'copyMove'
}
const isOurs = (event: DragEvent) => event.dataTransfer?.types.includes(ours)
async function drop(event: DragEvent, into = folder.value!.path) {
  over.value = false
  const data = event.dataTransfer
  if (!data) return
  if (isOurs(event)) {
    const what = JSON.parse(data.getData(ours))
    if (into !== what.from) await settle(event.ctrlKey ? 'copies' : 'renames', into, what)
    return
  }
  if (may('upload')) add(await dropped(data, into))
}
function turn(to: 'list' | 'previews') {
  shape.value = to
  localStorage.setItem('portal-shape', to)
}
function reach(f: Found) {
  searching.value = false
  location.hash = linkTo(f.kind === 'folder' ? join(f.in, f.name) : f.in)
}
function toggle(name: string) {
  wrong.value = ''
  if (!chosen.value.delete(name)) chosen.value.add(name)
}
</script>

<template>
  <h1 class="unseen">{{ crumbs.at(-1)?.name ?? 'Files' }}</h1>
  <nav class="crumbs" aria-label="Folder">
    <a :href="linkTo('/')" @dragover.prevent @drop.prevent.stop="drop($event, '/')">Files</a><template v-for="c in crumbs" :key="c.path"> / <a :href="linkTo(c.path)" @dragover.prevent @drop.prevent.stop="drop($event, c.path)">{{ c.name }}</a></template>
  </nav>
  <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
  <template v-if="folder">
    <div class="tools" :class="{ open: all }">
      <button v-if="may('upload')" class="first" @click="files?.click()">Upload files</button>
      <button v-if="may('upload') && may('mkdir')" class="more" @click="tree?.click()">Upload a folder</button>
      <button v-if="may('mkdir')" @click="ask('folder')">New folder</button>
      <a v-if="single" class="button" :href="fileAt(join(folder.path, single.name))" download>Download {{ single.name }}</a>
      <template v-else-if="may('download') && entries.length">
        <a class="button" :class="{ more: !selection.length }" :href="archive('zip')" download>{{ selection.length ? `Download ${selection.length} as ZIP` : 'Download all as ZIP' }}</a>
        <a class="button" :class="{ more: !selection.length }" :href="archive('tar')" download>as tar</a>
      </template>
      <button v-if="passes('drop') && may('upload')" class="more" @click="pass = { kind: 'drop', paths: [folder.path] }">Ask for files</button>
      <button class="fold" :aria-expanded="all" @click="all = !all">{{ all ? 'Less' : 'More' }}</button>
      <input ref="files" type="file" class="files" multiple hidden @change="pick(files)" />
      <input ref="tree" type="file" webkitdirectory hidden @change="pick(tree)" />
    </div>
    <div class="tools" :class="{ open: all }">
      <input v-model="find" type="search" aria-label="Find in this folder" placeholder="Find in this folder" @keydown.down.prevent="list?.focus()" />
      <button class="more" :aria-expanded="searching" @click="searching = !searching">Search below it</button>
      <button v-if="folder.binSeconds || bin" class="more" :aria-expanded="bin" @click="bin = !bin">Bin</button>
      <span class="pair more" role="group" aria-label="Shape"><button :aria-pressed="shape === 'list'" @click="turn('list')">List</button><button :aria-pressed="shape === 'previews'" @click="turn('previews')">Previews</button></span>
      <span v-if="room" class="soft more">{{ room }}</span>
    </div>
    <SearchSheet v-if="searching" :path="folder.path" :begin="find" @reach="reach" @gone="emit('gone')" />
    <PassForm v-if="pass" :key="pass.paths.join()" :kind="pass.kind" :paths="pass.paths" :longest="passDays" @gone="emit('gone')" @done="pass = null" />
    <BinSheet v-if="bin" @gone="emit('gone')" @changed="load(true)" />
    <div v-if="selection.length || carried" class="tools picked" aria-label="Selection" role="group">
      <template v-if="carried">
        <span>{{ carried.names.length === 1 ? carried.names[0] : `${carried.names.length} items` }} to be put down: go to a folder</span>
        <button v-if="may('rename')" @click="settle('renames', folder.path)">Move here</button><button v-if="may('upload')" @click="settle('copies', folder.path)">Copy here</button><button @click="carried = null">Let go</button>
      </template>
      <template v-else>
        <span>{{ selection.length.toLocaleString('en') }} chosen</span>
        <button v-if="may('rename') && selection.length === 1" @click="ask('rename')">Rename</button>
        <button v-if="may('rename') || may('download')" @click="carried = { from: folder.path, names: selection.map((e) => e.name) }">Move or copy</button>
        <button v-if="passes('fetch') && may('download')" @click="pass = { kind: 'fetch', paths: selection.map((e) => join(folder!.path, e.name)) }">Make a link</button>
        <button v-if="may('delete') || may('rmdir')" @click="ask('delete')">Delete</button>
        <button @click="chosen = new Set()">Choose nothing</button>
      </template>
    </div>
    <form v-if="doing" class="ask" @submit.prevent="finish" @keydown.esc="doing = null">
      <template v-if="doing.what === 'delete'">
        <span>{{ meant().length === 1 ? `Delete ${meant()[0]?.name}${meant()[0]?.kind === 'folder' ? ' with all that is in it' : ''}?` : `Delete ${meant().length} items with all that is in them?` }}</span>
        <span v-if="folder.binSeconds" class="soft">It can be put back for {{ days(folder.binSeconds) }}, and takes room until then.</span>
        <button ref="field" class="first">{{ folder.binSeconds ? 'Delete' : 'Delete for good' }}</button><button v-if="folder.binSeconds" type="button" @click="remove(true)">Delete for good</button><button type="button" @click="doing = null">Keep</button>
      </template>
      <template v-else>
        <label>{{ doing.what === 'folder' ? 'Name of the folder' : 'New name' }}<input ref="field" v-model="doing.text" :name="doing.what" spellcheck="false" /></label>
        <button class="first" :disabled="!doing.text">{{ doing.what === 'folder' ? 'Make it' : 'Rename it' }}</button><button type="button" @click="doing = null">Cancel</button>
      </template>
    </form>
    <p v-if="busy" role="status">{{ busy }}</p>
    <p v-else-if="undo" role="status" class="tools picked"><span>{{ undo.say }}</span><button @click="takeBack">Undo</button><button @click="undo = null">Leave it there</button></p>
    <div class="sheet" :class="{ over }" @dragover.prevent="over = may('upload') && !isOurs($event)" @dragleave="over = false" @drop.prevent="drop($event)">
      <FileList ref="list" v-model:current="current" v-model:sort="sort" :entries="shown" :chosen="chosen" :shape="shape" :folder="folder.path" :draggable="may('rename')" @open="open" @toggle="toggle" @all="chosen = chosen.size === shown.length ? new Set() : new Set(shown.map((e) => e.name))" @key="key" @grab="grab" @drop="(event, e) => drop(event, join(folder!.path, e.name))" />
      <p v-if="!shown.length && !reading" class="none">{{ find ? 'Nothing here has that in its name.' : may('upload') ? 'Nothing is here yet. Drag files or folders here, or upload them.' : 'Nothing is here.' }}</p>
      <p v-if="folder.cut" class="none">There is more in this folder than a page can show: use a transfer client for it.</p>
    </div>
    <p class="foot soft"><span>{{ reading ? 'Reading… ' : '' }}{{ shown.length.toLocaleString('en') }} {{ shown.length === 1 ? 'item' : 'items' }}</span> <button class="plain" :aria-expanded="why" @click="why = !why">What may I do here?</button></p>
    <WhySheet v-if="why" :path="folder.path" :name="selection[0]?.name ?? ''" />
  </template>
  <LookView v-if="looking >= 0 && lookable[looking]" :folder="folder!.path" :entries="lookable" :at="looking" @move="(at) => (looking = at)" @close="looking = -1; list?.focus()" />
</template>

<style scoped>
.crumbs { font-size: 19px; overflow-wrap: anywhere; }
.tools { display: flex; flex-wrap: wrap; gap: 10px; align-items: center; }
.tools input[type='search'] { width: auto; flex: 1 1 180px; }
.tools .soft { margin-left: auto; }
.picked { background: var(--spruce-wash); border-radius: 4px; padding: 8px 12px; }
.pair button { border-radius: 0; }
.pair button[aria-pressed='true'] { background: var(--spruce-wash); font-weight: 600; }
.ask { display: flex; flex-wrap: wrap; gap: 8px; align-items: end; }
.ask span { align-self: center; }
.ask label, .ask input { flex: 1 1 200px; }
.button { text-decoration: none; }
.over { outline: 3px dashed var(--spruce); outline-offset: 4px; }
.fold { display: none; }
@media (max-width: 560px) {
  .fold { display: inline-block; }
  .tools:not(.open) .more { display: none; }
}
.foot { display: flex; justify-content: space-between; align-items: baseline; margin: 0; }
</style>
