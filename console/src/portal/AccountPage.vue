<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { minute } from '@/format'
import { call, Refusal } from './calls'
import OwnCodes from './OwnCodes.vue'
import OwnKeys, { type OwnKey } from './OwnKeys.vue'
import OwnPasskeys, { type OwnPasskey } from './OwnPasskeys.vue'
import OwnPassword from './OwnPassword.vue'
import OwnTokens, { type OwnToken } from './OwnTokens.vue'

defineProps<{ account: string }>()
const emit = defineEmits<{ gone: [] }>()
type Session = { id: string; address: string; client: string; since: string; this: boolean }
type Facts = { password: boolean; proof: 'password' | 'sign-in' | 'none'; takesKeys: boolean; codes: boolean; codesRequired: boolean; recoveryLeft: number; keys: OwnKey[]; passkeys: OwnPasskey[]; tokens: OwnToken[]; sessions: Session[] }
type Row = { seq: number; at: string; action: string; path: string; outcome: string; protocol: string; address: string; detail: string }
type Section = { title: string; rows: { label: string; text: string }[]; commands: { for: string; line: string }[] }
const facts = ref<Facts | null>(null)
const rows = ref<Row[]>([])
const sheet = ref<{ sections: Section[] } | null>(null)
const wrong = ref('')

function refuse(error: unknown) {
  if (error instanceof Refusal && error.status === 401) emit('gone')
  else wrong.value = (error as Error).message
}
async function load() {
  try {
    facts.value = await call<Facts>('GET', '/account')
    rows.value = (await call<{ items: Row[] }>('GET', '/account/records')).items
    sheet.value = await call<{ sections: Section[] }>('GET', '/account/sheet')
  } catch (error) {
    refuse(error)
  }
}
onMounted(load)
async function end(s: Session) {
  try {
    await call('DELETE', '/account/sessions/' + s.id)
    if (s.this) emit('gone')
    else await load()
  } catch (error) {
    refuse(error)
  }
}
</script>

<template>
  <h1>My account</h1>
  <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
  <template v-if="facts">
    <OwnPassword v-if="facts.password" />
    <OwnCodes v-if="facts.proof === 'password'" :on="facts.codes" :required="facts.codesRequired" :left="facts.recoveryLeft" @changed="load" />
    <OwnPasskeys v-if="facts.proof !== 'none'" :asks="facts.proof === 'password'" :passkeys="facts.passkeys" @changed="load" />
    <OwnKeys v-if="facts.takesKeys" :asks="facts.proof === 'password'" :account="account" :keys="facts.keys" @changed="load" />
    <OwnTokens v-if="facts.proof !== 'none'" :asks="facts.proof === 'password'" :tokens="facts.tokens" @changed="load" />
    <section class="sheet card" aria-labelledby="where">
      <h2 id="where">Where you are signed in with a browser</h2>
      <ul>
        <li v-for="s in facts.sessions" :key="s.id"><span class="grow"><b>{{ s.address }}</b> since {{ minute(s.since) }} UTC{{ s.this ? ', here' : '' }}<br /><span class="soft">{{ s.client }}</span></span><button class="plain" @click="end(s)">{{ s.this ? 'Sign out' : 'End it' }}</button></li>
      </ul>
    </section>
    <section v-if="sheet" class="sheet card" aria-labelledby="others">
      <h2 id="others">With other programs</h2>
      <template v-for="s in sheet.sections" :key="s.title">
        <details><summary>{{ s.title }}</summary>
          <dl><template v-for="r in s.rows" :key="r.label"><dt>{{ r.label }}</dt><dd>{{ r.text }}</dd></template></dl>
          <div v-for="c in s.commands" :key="c.line"><span class="soft">{{ c.for }}</span><pre tabindex="0">{{ c.line }}</pre></div>
        </details>
      </template>
    </section>
    <section class="sheet card" aria-labelledby="lately">
      <h2 id="lately">What happened lately</h2>
      <div class="scroll" tabindex="0" role="region" aria-label="What happened lately">
        <table>
          <thead><tr><th>When, UTC</th><th>What</th><th>File or folder</th><th>How it ended</th><th>From</th></tr></thead>
          <tbody><tr v-for="r in rows" :key="r.seq"><td>{{ minute(r.at) }}</td><td>{{ r.action }}</td><td class="path">{{ r.path }}</td><td :class="{ wrong: r.outcome !== 'done' }" :title="r.detail">{{ r.outcome }}</td><td>{{ r.protocol }} {{ r.address }}</td></tr></tbody>
        </table>
      </div>
    </section>
  </template>
</template>

<style scoped>
.card { padding: 14px 16px; display: grid; gap: 10px; }
.card h2 { font-size: 17px; }
ul { list-style: none; margin: 0; padding: 0; display: grid; gap: 8px; }
li { display: flex; gap: 12px; align-items: center; }
.grow { flex: 1; overflow-wrap: anywhere; }
dl { display: grid; grid-template-columns: 150px 1fr; gap: 4px 14px; margin: 8px 0; }
dd { margin: 0; overflow-wrap: anywhere; }
pre { margin: 2px 0 10px; padding: 8px 10px; background: var(--ground); border-radius: 4px; overflow: auto; font-size: 14px; }
summary { cursor: pointer; font-weight: 600; }
.scroll { max-height: 420px; }
td { font-size: 15px; }
.path { white-space: normal; overflow-wrap: anywhere; min-width: 160px; }
@media (max-width: 560px) { dl { grid-template-columns: 1fr; } }
</style>
