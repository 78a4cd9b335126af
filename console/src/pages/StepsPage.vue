<script setup lang="ts">
import { NButton, useMessage } from 'naive-ui'
import { computed, onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import { call, sentence, type Schemas } from '@/api/client'
import { useOperator } from '@/operator'
import CertificateSheet from '@/parts/CertificateSheet.vue'
import FindingTable from '@/parts/FindingTable.vue'
import HostKeys from '@/parts/HostKeys.vue'
import IdentitySheet from '@/parts/IdentitySheet.vue'
import ListenerTable from '@/parts/ListenerTable.vue'
import StateMark from '@/parts/StateMark.vue'

// The walk from an empty data folder to somebody's first upload, a step at a time.
const message = useMessage()
const router = useRouter()
const mayChange = useOperator().mayChange()
const steps = ref<Schemas['SetupStep'][]>([])
const at = ref('')
const accounts = ref<string[]>([])
const listeners = ref<Schemas['Listener'][]>([])
const step = computed(() => steps.value.find((s) => s.step === at.value))
const wrongs = computed(() => step.value?.check.filter((f) => f.state !== 'fine') ?? [])
// Where else a step is taken, and what the command line has for it.
const elsewhere: Record<string, { to: string; text: string; command: string }> = {
  operator: { to: '/operators', text: 'Operators', command: 'urbankeep operator add NAME -role owner' },
  name: { to: '/settings', text: 'Settings', command: "urbankeep service set -name 'Survey Office'" },
  listeners: { to: '/settings', text: 'Settings: listeners', command: 'urbankeep listener set ftp -address :21' },
  host: { to: '/settings', text: 'Settings', command: 'urbankeep service set -host files.example.org' },
  passive: { to: '/settings', text: 'Settings: listeners', command: 'urbankeep listener set ftp -passive 47000-47099' },
  certificate: { to: '/settings', text: 'Settings: certificate', command: 'urbankeep certificate follow CERTIFICATE KEY' },
  'host-keys': { to: '/settings', text: 'Settings: host keys', command: 'urbankeep hostkey list' },
  store: { to: '/stores', text: 'Stores and quotas', command: 'urbankeep store add plates /srv/plates' },
  group: { to: '/groups?add', text: 'Add a group', command: 'urbankeep group add crews -home files:{account} -rights full' },
  account: { to: '/accounts?add', text: 'Add an account', command: 'urbankeep account add crew-harbour -group crews -generate' },
  handover: { to: '/accounts', text: 'Accounts', command: 'urbankeep handover ACCOUNT' },
}

async function load() {
  try {
    steps.value = (await call<Schemas['SetupStepPage']>('GET', '/setup-steps?check=all')).items
    listeners.value = (await call<Schemas['ListenerPage']>('GET', '/listeners')).items
    accounts.value = (await call<Schemas['AccountPage']>('GET', '/accounts?limit=20')).items.map((a) => a.name)
    if (!at.value) at.value = steps.value.find((s) => s.state === 'open')?.step ?? steps.value[0]?.step ?? ''
  } catch (error) {
    message.error(sentence(error))
  }
}
onMounted(load)

async function mark(state: 'done' | 'skipped' | 'open') {
  const taken = at.value
  const next = steps.value[steps.value.findIndex((s) => s.step === taken) + 1]
  try {
    await call('PUT', `/setup-steps/${taken}`, { state } satisfies Schemas['SetupMark'])
    if (state !== 'open' && next && at.value === taken) at.value = next.step // unless the reader has moved on
    await load()
  } catch (error) {
    message.error(sentence(error))
  }
}
</script>

<template>
  <section class="page">
    <div class="head"><h1>Set-up</h1><span class="soft">{{ steps.filter((s) => s.state === 'open').length }} of {{ steps.length }} steps are open; each can be skipped and come back to</span></div>
    <div class="walk">
      <ol class="sheet" aria-label="Steps">
        <li v-for="(s, i) in steps" :key="s.step" :class="{ here: s.step === at }">
          <button class="plain" :aria-current="s.step === at ? 'step' : undefined" @click="at = s.step"><span class="soft">{{ i + 1 }}</span> {{ s.title }}</button><StateMark :state="s.state" />
        </li>
      </ol>
      <div v-if="step" class="one">
        <div class="sheet">
          <header><h2>{{ step.title }}</h2><StateMark :state="step.state" /></header>
          <div class="body">
            <p>{{ step.why }}</p>
            <p v-if="step.says" class="soft">Now: {{ step.says }}</p>
            <p v-if="step.step === 'handover' && accounts.length"><RouterLink v-for="a in accounts" :key="a" class="sheets" :to="`/handover/${a}`">{{ a }}</RouterLink></p>
            <p>In <RouterLink :to="elsewhere[step.step]!.to">{{ elsewhere[step.step]!.text }}</RouterLink>, or on the command line: <code class="mono">{{ elsewhere[step.step]!.command }}</code></p>
            <div v-if="mayChange" class="row">
              <NButton v-if="step.state !== 'done'" type="primary" @click="mark('done')">It is as it should be</NButton>
              <NButton v-if="step.state === 'open'" @click="mark('skipped')">Skip it for now</NButton>
              <NButton v-if="step.state !== 'open'" @click="mark('open')">Come back to it</NButton>
            </div>
          </div>
        </div>
        <IdentitySheet v-if="step.step === 'name' || step.step === 'host'" bare :may-change="mayChange" @saved="load" />
        <div v-if="step.step === 'listeners' || step.step === 'passive'" class="sheet">
          <header><h2>Listeners</h2><span class="soft">pick one to change it; sessions that are open stay</span></header>
          <ListenerTable :listeners="listeners" @pick="(name) => router.push(`/settings/${name}`)" />
        </div>
        <HostKeys v-if="step.step === 'host-keys'" :may-change="mayChange" />
        <CertificateSheet v-if="step.step === 'certificate'" :may-change="mayChange" />
        <div v-if="wrongs.length" class="sheet">
          <header><h2>What a check-up says of it</h2><button class="plain" @click="load">Look again</button></header>
          <FindingTable :findings="wrongs" label="Findings of this step" />
        </div>
        <p v-else-if="step.check.length" class="soft">A check-up of it finds nothing wrong.</p>
      </div>
    </div>
  </section>
</template>

<style scoped>
.walk { display: grid; grid-template-columns: 300px minmax(0, 1fr); gap: 18px; align-items: start; }
@media (max-width: 899px) { .walk { grid-template-columns: minmax(0, 1fr); } }
ol { list-style: none; margin: 0; padding: 6px 0; }
li { display: flex; justify-content: space-between; gap: 8px; padding: 7px 14px; border-left: 3px solid transparent; }
li.here { border-left-color: var(--spruce); background: var(--spruce-wash); }
li button span { display: inline-block; width: 20px; }
.one { display: grid; gap: 18px; }
.body { padding: 4px 14px 14px; }
.row { display: flex; gap: 8px; margin-top: 12px; }
.sheets { display: inline-block; margin-right: 12px; white-space: nowrap; }
</style>
