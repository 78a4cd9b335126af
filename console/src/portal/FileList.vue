<script setup lang="ts">
import { useVirtualizer } from '@tanstack/vue-virtual'
import { computed, nextTick, onMounted, onUnmounted, ref, watch } from 'vue'
import { minute, size } from '@/format'
import { join, previewAt, type Entry } from './calls'
import { ending } from './kinds'

// A folder as rows or as tiles; only what is on the screen is drawn.
const props = defineProps<{ entries: Entry[]; chosen: Set<string>; shape: 'list' | 'previews'; folder: string; current: number; sort: { by: 'name' | 'size' | 'modified'; down: boolean }; draggable: boolean }>()
const emit = defineEmits<{ open: [entry: Entry]; toggle: [name: string]; all: []; key: [event: KeyboardEvent]; grab: [event: DragEvent, entry: Entry]; drop: [event: DragEvent, entry: Entry]; 'update:current': [at: number]; 'update:sort': [sort: { by: 'name' | 'size' | 'modified'; down: boolean }] }>()

const grid = ref<HTMLElement>()
const width = ref(800)
const watcher = new ResizeObserver((seen) => (width.value = seen[0]?.contentRect.width ?? 800))
onMounted(() => watcher.observe(grid.value!))
onUnmounted(() => watcher.disconnect())
const columns = computed(() => (props.shape === 'previews' ? Math.max(1, Math.floor(width.value / 168)) : 1))
const rows = computed(() => Math.ceil(props.entries.length / columns.value))
const height = computed(() => (props.shape === 'previews' ? 184 : 44))
const margin = computed(() => (props.shape === 'list' ? 40 : 0)) // of the head
const virtual = useVirtualizer(computed(() => ({ count: rows.value, getScrollElement: () => grid.value ?? null, estimateSize: () => height.value, overscan: 8, scrollMargin: margin.value, scrollPaddingStart: margin.value })))
watch(height, () => virtual.value.measure())
const parts = computed(() => virtual.value.getVirtualItems().map((row) => ({ row, cells: props.entries.slice(row.index * columns.value, (row.index + 1) * columns.value).map((e, i) => ({ e, at: row.index * columns.value + i })) })))

watch(() => props.entries.length, (n) => { if (props.current >= n) emit('update:current', Math.max(0, n - 1)) })
function go(to: number) {
  const at = Math.max(0, Math.min(props.entries.length - 1, to))
  emit('update:current', at)
  virtual.value.scrollToIndex(Math.floor(at / columns.value))
}
let typed = ''
let typing = 0
function key(event: KeyboardEvent) {
  if (event.target !== grid.value && event.key.length > 1 && event.key !== 'Delete' && !event.key.startsWith('Arrow')) return // of a control in it
  if (event.target instanceof HTMLButtonElement && event.key === ' ') return
  const page = Math.max(1, Math.floor((grid.value!.clientHeight || 400) / height.value)) * columns.value
  const steps: Record<string, number> = { ArrowDown: columns.value, ArrowUp: -columns.value, PageDown: page, PageUp: -page, Home: -props.entries.length, End: props.entries.length }
  if (columns.value > 1) Object.assign(steps, { ArrowRight: 1, ArrowLeft: -1 })
  const e: Entry | undefined = props.entries[props.current]
  if (event.key.length > 1 && event.key !== 'Shift') typed = ''
  if (event.key in steps && !event.altKey) {
    if (event.shiftKey && e && !props.chosen.has(e.name)) emit('toggle', e.name)
    go(props.current + steps[event.key]!)
    const now = props.entries[Math.max(0, Math.min(props.entries.length - 1, props.current + steps[event.key]!))]
    if (event.shiftKey && now && !props.chosen.has(now.name)) emit('toggle', now.name)
  } else if (event.key === 'Enter' && e) emit('open', e)
  else if (event.key === ' ' && e && !typed) emit('toggle', e.name)
  else if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'a') emit('all')
  else if (event.key.length === 1 && !event.ctrlKey && !event.metaKey && !event.altKey) {
    // What is typed finds the next name that begins so.
    clearTimeout(typing)
    typing = window.setTimeout(() => (typed = ''), 800)
    typed += event.key.toLowerCase()
    const n = props.entries.length
    for (let i = typed.length > 1 ? 0 : 1; n && i <= n; i++) {
      const at = (props.current + i) % n
      if (props.entries[at]!.name.toLowerCase().startsWith(typed)) {
        go(at)
        break
      }
    }
  } else {
    emit('key', event)
    return
  }
  event.preventDefault()
}
const by = (what: 'name' | 'size' | 'modified') => emit('update:sort', { by: what, down: props.sort.by === what ? !props.sort.down : what !== 'name' })
const sorted = (what: string) => (props.sort.by === what ? (props.sort.down ? 'descending' : 'ascending') : 'none')
const hrefOf = (e: Entry) => '#' + encodeURIComponent(join(props.folder, e.name)).replaceAll('%2F', '/')
const dead = ref(new Set<string>())
defineExpose({ focus: async () => { await nextTick(); grid.value?.focus({ preventScroll: true }) } })
</script>

<template>
  <div ref="grid" class="list" :style="{ height: virtual.getTotalSize() + margin + 2 + 'px' }" role="grid" aria-label="Files" aria-description="Arrows move, Enter opens, space chooses" :aria-rowcount="entries.length + 1" aria-multiselectable="true" tabindex="0" :aria-activedescendant="entries.length ? 'at-' + current : undefined" @keydown="key">
    <div v-if="shape === 'list'" class="row heads" role="row">
      <span role="columnheader"><input type="checkbox" aria-label="All" tabindex="-1" :checked="entries.length > 0 && chosen.size === entries.length" @change="emit('all')" /></span>
      <span class="name" role="columnheader" :aria-sort="sorted('name')"><button class="plain" @click="by('name')">Name</button></span>
      <span class="number" role="columnheader" :aria-sort="sorted('size')"><button class="plain" @click="by('size')">Size</button></span>
      <span class="when" role="columnheader" :aria-sort="sorted('modified')"><button class="plain" @click="by('modified')">Changed, UTC</button></span>
    </div>
    <div class="box" role="rowgroup" :style="{ height: virtual.getTotalSize() + 'px' }">
        <div v-for="p in parts" :key="p.row.index" class="band" :style="{ transform: `translateY(${p.row.start - margin}px)`, height: height + 'px' }" role="presentation">
          <template v-if="shape === 'list'">
            <div v-for="{ e, at } in p.cells" :id="'at-' + at" :key="e.name" class="row" :class="{ current: at === current }" role="row" :aria-rowindex="at + 2" :aria-selected="chosen.has(e.name)" :draggable="draggable" @click="emit('update:current', at)" @dragstart="emit('grab', $event, e)" @dragover="e.kind === 'folder' && $event.preventDefault()" @drop="e.kind === 'folder' && ($event.preventDefault(), $event.stopPropagation(), emit('drop', $event, e))">
              <span role="gridcell"><input type="checkbox" tabindex="-1" :checked="chosen.has(e.name)" :aria-label="e.name" @change="emit('toggle', e.name)" /></span>
              <span class="name" role="gridcell"><a v-if="e.kind === 'folder'" tabindex="-1" :href="hrefOf(e)">{{ e.name }}/</a><button v-else class="plain" tabindex="-1" @click="emit('open', e)">{{ e.name }}</button></span>
              <span class="number" role="gridcell">{{ e.kind === 'folder' ? '' : size(e.size) }}</span>
              <span class="when" role="gridcell">{{ e.modified ? minute(e.modified) : '' }}</span>
            </div>
          </template>
          <div v-else class="tiles" :style="{ gridTemplateColumns: `repeat(${columns}, minmax(0, 1fr))` }" role="row" :aria-rowindex="p.row.index + 1">
            <div v-for="{ e, at } in p.cells" :id="'at-' + at" :key="e.name" class="tile" :class="{ current: at === current }" role="gridcell" :aria-selected="chosen.has(e.name)" @click="emit('update:current', at)" @dblclick="emit('open', e)">
              <span class="face" @click="emit('open', e)"><img v-if="e.picture && !dead.has(e.name)" :src="previewAt(join(folder, e.name), 320)" alt="" loading="lazy" @error="dead.add(e.name)" /><b v-else>{{ e.kind === 'folder' ? 'folder' : ending(e.name) || 'file' }}</b></span>
              <span class="under"><input type="checkbox" tabindex="-1" :checked="chosen.has(e.name)" :aria-label="e.name" @click.stop @change="emit('toggle', e.name)" /><span class="name">{{ e.name }}</span></span>
            </div>
          </div>
        </div>
    </div>
  </div>
</template>

<style scoped>
.list { max-height: 64vh; overflow: auto; }
.box { position: relative; contain: layout; }
.band { position: absolute; top: 0; left: 0; right: 0; }
.row { display: grid; grid-template-columns: 40px minmax(0, 1fr) 110px 160px; align-items: center; height: 100%; border-bottom: 1px solid color-mix(in srgb, var(--line) 55%, transparent); }
.row.heads { position: sticky; top: 0; z-index: 1; background: var(--sheet); height: 40px; border-bottom: 1px solid var(--line); font-size: 14px; }
.row > :first-child { text-align: center; }
.row .name { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
.row .plain { text-align: left; max-width: 100%; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; padding: 4px 0; }
.row.heads .plain { padding: 4px 0; font-size: 14px; }
.row:not(.heads) .plain { color: var(--ink); text-decoration: none; }
.number { text-align: right; }
.when { padding-left: 20px; font-size: 15px; color: var(--soft); }
.current { box-shadow: inset 3px 0 var(--spruce); }
.list:focus-visible .current { background: var(--spruce-wash); }
[aria-selected='true'] { background: var(--spruce-wash); }
.row[aria-selected='true'] .when { color: var(--ink); }
input[type='checkbox'] { width: 18px; height: 18px; margin: 0; accent-color: var(--spruce); }
.tiles { display: grid; gap: 8px; padding: 6px 8px; height: 100%; }
.tile { min-width: 0; border: 1px solid var(--line); border-radius: 4px; display: grid; grid-template-rows: 1fr auto; overflow: hidden; }
.tile.current { border-color: var(--spruce); box-shadow: 0 0 0 1px var(--spruce); }
.face { display: grid; place-items: center; overflow: hidden; cursor: pointer; background: var(--ground); }
.face img { width: 100%; height: 132px; object-fit: cover; }
.face b { color: var(--soft); font-weight: 600; }
.under { display: flex; gap: 6px; padding: 5px 7px; align-items: center; min-width: 0; }
.under .name { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; font-size: 15px; }
@media (max-width: 560px) {
  .row { grid-template-columns: 36px minmax(0, 1fr) auto; grid-template-rows: auto auto; align-content: center; column-gap: 6px; }
  .row > :first-child { grid-row: 1 / 3; }
  .row .number { font-size: 14px; padding-right: 8px; }
  .row .when { grid-column: 2 / 4; grid-row: 2; padding-left: 0; font-size: 13px; }
  .row.heads .when { display: none; }
}
</style>
