<script setup lang="ts">
import { onMounted, ref, watch } from 'vue'
import { size } from '@/format'
import { call } from './calls'
import { begin, dismissDone, halt, resume, running, sending, settle, settleAll, stop, taken, total, type Sending } from './uploads'

const props = defineProps<{ account: string }>()
const emit = defineEmits<{ gone: [] }>()
type Left = { id: string; path: string; size: number; offset: number; ends: string }
const left = ref<Left[]>([])
const open = ref(true)
// A long list is drawn as far as it matters: what runs or is stuck first.
const most = 60
const order: Record<Sending['state'], number> = { there: 0, failed: 1, runs: 2, checks: 2, paused: 3, waits: 4, done: 5 }
const shown = () => (sending.length <= most ? sending : [...sending].sort((a, b) => order[a.state] - order[b.state]).slice(0, most))

async function look() {
  const found = await call<{ items: Left[] }>('GET', '/uploads').catch(() => ({ items: [] }))
  left.value = found.items.filter((l) => !sending.some((s) => s.path === l.path))
}
onMounted(() => {
  begin(props.account, (folder) => dispatchEvent(new CustomEvent('changed', { detail: folder })), () => emit('gone'))
  void look()
})
watch(() => sending.length, (now, before) => { if (before === 0 || now === 0) void look() })
async function drop(l: Left) {
  await fetch('/portal/api/v1/uploads/' + l.id, { method: 'DELETE', headers: { 'Tus-Resumable': '1.0.0' } }).catch(() => undefined)
  await look()
}
const percent = (part: number, whole: number) => (whole ? Math.floor((part / whole) * 100) : 100)
const say = (s: Sending) => ({ done: '✓ uploaded', waits: 'waits', runs: `${percent(s.sent, s.size)} %`, checks: 'is being checked', paused: s.say || `paused at ${percent(s.sent, s.size)} %`, there: s.say, failed: s.say })[s.state]
</script>

<template>
  <section v-if="sending.length" class="sheet sending" aria-label="Uploads">
    <header>
      <strong>{{ total.done }} of {{ total.all }} uploaded</strong>
      <span class="soft">{{ size(total.sent) }} of {{ size(total.size) }}</span>
      <progress :value="total.sent" :max="total.size || 1" aria-label="All uploads" />
      <button class="plain" :aria-expanded="open" @click="open = !open">{{ open ? 'Less' : 'More' }}</button>
      <button v-if="!running.length" class="plain" @click="dismissDone">Dismiss</button>
    </header>
    <div v-if="taken.length" class="ask" role="alert">
      <span>{{ taken.length === 1 ? `A file named ${taken[0]?.name} is there already.` : `${taken.length} files are there already.` }}</span>
      <button @click="settleAll('replace')">Replace{{ taken.length > 1 ? ' all' : ' it' }}</button><button @click="settleAll('both')">Keep both</button><button @click="settleAll('leave')">Leave {{ taken.length > 1 ? 'them' : 'it' }} out</button>
    </div>
    <ul v-if="open">
      <li v-for="s in shown()" :key="s.key">
        <span class="name">{{ s.name }}</span>
        <progress v-if="s.state === 'runs'" :value="s.sent" :max="s.size || 1" :aria-label="s.name" />
        <span :class="{ wrong: s.state === 'failed' || s.state === 'there' }" role="status">{{ say(s) }}</span>
        <button v-if="s.state === 'there'" class="plain" @click="settle(s, 'replace')">Replace it</button>
        <button v-if="s.state === 'runs'" class="plain" :aria-label="`Pause ${s.name}`" @click="halt(s)">Pause</button>
        <button v-if="s.state === 'paused' || s.state === 'failed'" class="plain" :aria-label="`Go on with ${s.name}`" @click="resume(s)">{{ s.state === 'failed' ? 'Try again' : 'Go on' }}</button>
        <button v-if="s.state !== 'done'" class="plain" :aria-label="`Give up ${s.name}`" @click="stop(s)">Give up</button>
      </li>
      <li v-if="sending.length > most" class="soft">and {{ (sending.length - most).toLocaleString('en') }} more</li>
    </ul>
  </section>
  <section v-if="left.length" class="sheet sending" aria-label="Unfinished uploads">
    <header><strong>Not finished</strong><span class="soft">Add the same file to the same folder again, and it goes on from there.</span></header>
    <ul>
      <li v-for="l in left" :key="l.id"><span class="name">{{ l.path }}</span><span class="soft">{{ percent(l.offset, l.size) }} % of {{ size(l.size) }}, kept until {{ l.ends.slice(0, 10) }}</span><button class="plain" :aria-label="`Drop ${l.path}`" @click="drop(l)">Drop it</button></li>
    </ul>
  </section>
</template>

<style scoped>
.sending { padding: 8px 14px; display: grid; gap: 8px; }
.sending > header { border: 0; padding: 0; align-items: center; }
ul { list-style: none; margin: 0; padding: 0; display: grid; gap: 4px; max-height: 300px; overflow: auto; }
li { display: flex; flex-wrap: wrap; gap: 2px 12px; align-items: center; }
.name { flex: 1 1 200px; overflow-wrap: anywhere; }
.ask { display: flex; flex-wrap: wrap; gap: 8px; align-items: center; }
progress { accent-color: var(--spruce); width: 140px; }
</style>
