<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { minute, size } from '@/format'
import { call, Refusal } from './calls'

const emit = defineEmits<{ gone: [] }>()
type Pass = { id: string; kind: 'fetch' | 'drop'; paths: string[]; password: boolean; note: string; maxUses: number; maxBytes: number; by: string; expires: string; ended?: string; open: boolean; uses: number; bytes: number; lastUsed?: string }
type Use = { address: string; began: string; files: number; bytes: number; name: string; mail: string; message: string }
const passes = ref<Pass[]>([])
const uses = ref<{ of: string; items: Use[] } | null>(null)
const wrong = ref('')
const read = ref(false)
function refuse(error: unknown) {
  if (error instanceof Refusal && error.status === 401) emit('gone')
  else wrong.value = (error as Error).message
}
async function load() {
  try {
    passes.value = (await call<{ items: Pass[] }>('GET', '/passes')).items
  } catch (error) {
    refuse(error)
  }
  read.value = true
}
onMounted(load)
async function end(p: Pass) {
  wrong.value = ''
  await call('DELETE', '/passes/' + p.id).catch(refuse)
  await load()
}
async function look(p: Pass) {
  if (uses.value?.of === p.id) {
    uses.value = null
    return
  }
  await call<{ items: Use[] }>('GET', `/passes/${p.id}/uses`).then((page) => (uses.value = { of: p.id, items: page.items }), refuse)
}
const ends = (p: Pass) => (p.ended ? `ended ${minute(p.ended)}` : new Date(p.expires) < new Date() ? `ended ${minute(p.expires)}` : !p.open ? 'used up' : `until ${minute(p.expires)} UTC`)
</script>

<template>
  <h1>Passes</h1>
  <p class="soft intro">Links for people without an account. Make one in your files: choose what is to be fetched, or ask for files in a folder.</p>
  <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
  <section v-if="passes.length" class="sheet" aria-label="Passes">
    <ul>
      <li v-for="p in passes" :key="p.id" :class="{ over: !p.open }">
        <div class="row">
          <span class="grow"><b>{{ p.kind === 'fetch' ? 'To fetch' : 'To leave files in' }}</b> {{ p.paths.join(', ') }}<br />
            <span class="soft">{{ ends(p) }}{{ p.password ? ', with a password' : ', without a password' }}{{ p.by ? `, made by ${p.by}` : '' }}{{ p.note ? ` · ${p.note}` : '' }}</span><br />
            <span class="soft">{{ p.uses ? `used ${p.uses}${p.maxUses ? ` of ${p.maxUses}` : ''} times, ${size(p.bytes)}, last ${minute(p.lastUsed!)}` : 'never used' }}</span></span>
          <button v-if="p.uses" :aria-expanded="uses?.of === p.id" :aria-label="'Who used ' + (p.note || p.paths[0])" @click="look(p)">Who used it</button>
          <button v-if="p.open" :aria-label="'End ' + (p.note || p.paths[0])" @click="end(p)">End it</button>
        </div>
        <ul v-if="uses?.of === p.id" class="uses">
          <li v-for="u in uses.items" :key="u.began + u.address">{{ minute(u.began) }} UTC from {{ u.address }}: {{ u.files }} {{ u.files === 1 ? 'file' : 'files' }}, {{ size(u.bytes) }}<template v-if="u.name"> by {{ u.name }}{{ u.mail ? ` <${u.mail}>` : '' }}</template><q v-if="u.message">{{ u.message }}</q></li>
        </ul>
      </li>
    </ul>
  </section>
  <p v-else-if="read" class="none sheet">You have made no passes yet.</p>
</template>

<style scoped>
ul { list-style: none; margin: 0; padding: 0; }
.sheet > ul > li { padding: 12px 14px; border-bottom: 1px solid var(--line); }
.sheet > ul > li:last-child { border-bottom: 0; }
.row { display: flex; flex-wrap: wrap; gap: 10px; align-items: center; }
.grow { flex: 1 1 300px; overflow-wrap: anywhere; }
.over b { font-weight: 400; }
.intro { margin: 0; }
.uses { padding: 8px 0 0 14px; display: grid; gap: 4px; font-size: 15px; }
q { display: block; white-space: pre-line; border-left: 3px solid var(--copper); padding-left: 10px; quotes: none; }
</style>
