<script setup lang="ts">
import { computed, onMounted, onUnmounted, ref, watch } from 'vue'
import { fileAt, join, lookAt, previewAt, send, type Entry } from './calls'
import { kindOf } from './kinds'

const props = defineProps<{ folder: string; entries: Entry[]; at: number }>()
const emit = defineEmits<{ close: []; move: [at: number] }>()
const entry = computed(() => props.entries[props.at]!)
const path = computed(() => join(props.folder, entry.value.name))
const kind = computed(() => kindOf(entry.value))
const text = ref('')
const wrong = ref('')
const playing = ref(0)
const box = ref<HTMLDialogElement>()
// A text is shown as far as somebody reads.
const most = 512 << 10

watch(path, async () => {
  text.value = wrong.value = ''
  if (kind.value !== 'text') return
  try {
    const part = entry.value.size > most ? { Range: `bytes=0-${most - 1}` } : undefined
    const bytes = await (await send(lookAt(path.value), { headers: part })).arrayBuffer()
    try {
      text.value = new TextDecoder('utf-8', { fatal: entry.value.size <= most }).decode(bytes)
    } catch {
      text.value = new TextDecoder('windows-1252').decode(bytes)
    }
  } catch (error) {
    wrong.value = (error as Error).message
  }
}, { immediate: true })
function step(by: number) {
  const n = props.entries.length
  emit('move', (props.at + by + n) % n)
}
function play() {
  clearInterval(playing.value)
  playing.value = playing.value ? 0 : window.setInterval(() => step(1), 4000)
}
function key(event: KeyboardEvent) {
  if (event.key === 'ArrowRight') step(1)
  else if (event.key === 'ArrowLeft') step(-1)
  else return
  event.preventDefault()
}
onMounted(() => box.value?.showModal())
onUnmounted(() => clearInterval(playing.value))
</script>

<template>
  <dialog ref="box" class="look" :aria-label="entry.name" @close="emit('close')" @keydown="key">
    <header>
      <strong>{{ entry.name }}</strong><span class="soft">{{ at + 1 }} of {{ entries.length }}</span>
      <template v-if="entries.length > 1"><button @click="step(-1)">Before</button><button @click="step(1)">Next</button><button :aria-pressed="playing > 0" @click="play">{{ playing ? 'Stop the show' : 'Show all' }}</button></template>
      <a class="button" :href="fileAt(path)" download>Download</a><button autofocus @click="box?.close()">Close</button>
    </header>
    <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
    <img v-if="kind === 'picture' && !wrong" :key="path" :src="previewAt(path, 1600)" :alt="entry.name" @error="wrong = 'There is no small picture of that: download it.'" />
    <pre v-else-if="kind === 'text'" tabindex="0">{{ text }}</pre>
    <p v-if="kind === 'text' && entry.size > most" class="soft">This is the beginning of it: download the file for the rest.</p>
    <iframe v-if="kind === 'pdf'" :key="path" :src="lookAt(path)" :title="entry.name" />
    <audio v-if="kind === 'audio'" :key="path" :src="lookAt(path)" controls @error="wrong = 'The browser can’t play that: download it.'" />
    <video v-if="kind === 'video'" :key="path" :src="lookAt(path)" controls @error="wrong = 'The browser can’t play that: download it.'" />
  </dialog>
</template>

<style scoped>
.look { width: min(1100px, calc(100vw - 24px)); height: calc(100vh - 40px); max-height: none; border: 1px solid var(--line); border-radius: 6px; background: var(--sheet); color: var(--ink); padding: 12px; flex-direction: column; gap: 10px; }
.look[open] { display: flex; }
.look::backdrop { background: rgb(0 0 0 / 55%); }
header { display: flex; flex-wrap: wrap; gap: 6px 12px; align-items: center; }
header strong { overflow-wrap: anywhere; margin-right: auto; }
.look img, .look video { min-height: 0; flex: 1; object-fit: contain; max-width: 100%; }
.look iframe { flex: 1; border: 0; background: #fff; }
pre { flex: 1; overflow: auto; margin: 0; white-space: pre-wrap; overflow-wrap: anywhere; font-size: 14px; }
</style>
