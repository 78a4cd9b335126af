<script setup lang="ts">
import { NButton, NInput, NSelect, useMessage } from 'naive-ui'
import { computed, onMounted, provide, ref, watch } from 'vue'
import { call, sentence, type Account, type Schemas } from '@/api/client'
import { useOperator } from '@/operator'
import AccountForm from '@/parts/AccountForm.vue'
import CertificateSheet from '@/parts/CertificateSheet.vue'
import FindingTable from '@/parts/FindingTable.vue'
import FirstUpload from '@/parts/FirstUpload.vue'
import GroupDetail from '@/parts/GroupDetail.vue'
import HandoverSheet from '@/parts/HandoverSheet.vue'
import HostKeys from '@/parts/HostKeys.vue'
import IdentitySheet from '@/parts/IdentitySheet.vue'
import ListenerForm from '@/parts/ListenerForm.vue'
import ListenerTable from '@/parts/ListenerTable.vue'
import OperatorForm from '@/parts/OperatorForm.vue'
import StateMark from '@/parts/StateMark.vue'
import StoreForm from '@/parts/StoreForm.vue'

// The walk from an empty data folder to somebody's first upload. Four steps do it; each step has its form here.
provide('onPage', true)
const message = useMessage()
const operator = useOperator()
const mayChange = operator.mayChange()
const steps = ref<Schemas['SetupStep'][]>([])
const at = ref('')
const accounts = ref<string[]>([])
const account = ref('')
const sheet = ref<Schemas['Sheet'] | null>(null)
const listeners = ref<Schemas['Listener'][]>([])
const listener = ref('')
const stores = ref<Schemas['Store'][]>([])
const more = ref(0) // each form that was used makes room for the next

interface Stage { title: string; of: Schemas['SetupStep'][]; state: Schemas['SetupStep']['state'] }
// A stage is what is taken at once: the name and the address stand in one form.
const stage = (...names: string[]): Stage => {
  const of = steps.value.filter((s) => names.includes(s.step))
  return { title: names.length > 1 ? 'Name and address' : (of[0]?.title ?? ''), of, state: of.find((s) => s.state === 'open')?.state ?? of[0]?.state ?? 'open' }
}
const first = computed(() => [stage('name', 'host'), stage('certificate'), stage('account'), stage('handover')].filter((s) => s.of.length))
const later = computed(() => steps.value.filter((s) => !first.value.some((f) => f.of.includes(s))).map((s) => stage(s.step)))
const all = computed(() => [...first.value, ...later.value])
const here = computed(() => all.value.find((s) => s.of[0]?.step === at.value))
const open = computed(() => first.value.filter((s) => s.state === 'open').length)
const has = (step: string) => here.value?.of.some((s) => s.step === step)
const wrongs = computed(() => here.value?.of.flatMap((s) => s.check).filter((f) => f.state !== 'fine') ?? [])
const checked = computed(() => here.value?.of.some((s) => s.check.length))
const commands: Record<string, string> = {
  operator: 'urbankeep operator add NAME -role owner',
  name: "urbankeep service set -name 'Survey office' -host files.example.org",
  listeners: 'urbankeep listener set ftp -address :21',
  passive: 'urbankeep listener set ftp -passive 47000-47099',
  certificate: 'urbankeep certificate follow CERTIFICATE KEY',
  browsers: 'urbankeep listener add people web :443 -faces portal,passes,dav',
  'host-keys': 'urbankeep hostkey list',
  store: 'urbankeep store add plates /srv/plates',
  group: "urbankeep group add crews -home 'files:{account}' -rights full",
  account: 'urbankeep account add crew-harbour -generate',
  handover: 'urbankeep handover ACCOUNT',
}

async function load() {
  try {
    steps.value = (await call<Schemas['SetupStepPage']>('GET', '/setup-steps?check=all')).items
    listeners.value = (await call<Schemas['ListenerPage']>('GET', '/listeners')).items
    stores.value = (await call<Schemas['StorePage']>('GET', '/stores')).items
    accounts.value = (await call<Schemas['AccountPage']>('GET', '/accounts?limit=200')).items.map((a) => a.name)
    if (!account.value) account.value = accounts.value.find((a) => a !== 'anonymous') ?? ''
    if (!at.value) at.value = all.value.find((s) => s.state === 'open')?.of[0]?.step ?? 'name'
  } catch (error) {
    message.error(sentence(error))
  }
}
onMounted(load)

watch([at, account], async () => {
  sheet.value = null
  if (at.value !== 'handover' || !account.value) return
  try {
    sheet.value = await call<Schemas['Sheet']>('GET', `/accounts/${account.value}/handover`)
  } catch (error) {
    message.error(sentence(error))
  }
})

// mark says of the steps here that they are taken, or left, and goes on to the next stage.
async function mark(state: 'done' | 'skipped' | 'open') {
  const taken = here.value
  if (!taken) return
  const next = all.value[all.value.indexOf(taken) + 1]?.of[0]?.step
  try {
    for (const s of taken.of) await call('PUT', `/setup-steps/${s.step}`, { state } satisfies Schemas['SetupMark'])
    if (state !== 'open' && next && at.value === taken.of[0]?.step) at.value = next // unless the reader has moved on
    await load()
  } catch (error) {
    message.error(sentence(error))
  }
}
const door = ref(':443')
async function openDoor() {
  try {
    await call('POST', '/listeners', { name: 'people', protocol: 'web', address: door.value, encryption: 'required', faces: ['portal', 'passes', 'dav'] } satisfies Schemas['ListenerNew'])
    await mark('done')
  } catch (error) {
    message.error(sentence(error))
  }
}
async function saved() {
  await mark('done')
}
async function added(a: Account) {
  account.value = a.name
  await mark('done')
}
async function used() {
  more.value++
  listener.value = ''
  await load()
}
const print = () => window.print()
</script>

<template>
  <section class="page">
    <div class="head no-print">
      <h1>Set-up</h1>
      <span v-if="steps.length" class="soft">{{ open ? `${open} of the first four steps ${open === 1 ? 'is' : 'are'} open; each can be left for later` : 'The first four steps are taken: people can connect' }}</span>
    </div>
    <div v-if="steps.length" class="walk">
      <nav class="sheet no-print" aria-label="Steps">
        <template v-for="part in [{ title: 'First', of: first, from: 1 }, { title: 'When you like', of: later, from: first.length + 1 }]" :key="part.title">
          <h2>{{ part.title }}</h2>
          <ol :start="part.from">
            <li v-for="(s, i) in part.of" :key="s.title" :class="{ here: s === here }">
              <button class="plain" :aria-current="s === here ? 'step' : undefined" @click="at = s.of[0]!.step"><span class="soft">{{ part.from + i }}</span> {{ s.title }}</button><StateMark :state="s.state" />
            </li>
          </ol>
        </template>
      </nav>
      <div v-if="here" class="one">
        <div class="sheet no-print">
          <header><h2>{{ here.title }}</h2><StateMark :state="here.state" /></header>
          <div class="body">
            <template v-for="s in here.of" :key="s.step">
              <p>{{ s.why }}</p>
              <p v-if="s.says" class="soft">Now: {{ s.says }}</p>
            </template>
            <p class="soft">On the command line: <code class="mono">{{ commands[here.of[0]!.step] }}</code></p>
            <div v-if="mayChange" class="row">
              <NButton v-if="here.state !== 'done'" type="primary" @click="mark('done')">It is as it should be</NButton>
              <NButton v-if="here.state === 'open'" @click="mark('skipped')">Later</NButton>
              <NButton v-if="here.state !== 'open'" @click="mark('open')">Come back to it</NButton>
            </div>
          </div>
        </div>
        <IdentitySheet v-if="has('name')" bare :may-change="mayChange" @saved="saved" />
        <CertificateSheet v-if="has('certificate')" :may-change="mayChange" />
        <AccountForm v-if="has('account') && mayChange" brief :key="`account${more}`" @added="added" />
        <template v-if="has('handover')">
          <div class="sheet no-print">
            <div class="fields">
              <label>For whom<NSelect v-model:value="account" :options="accounts.map((a) => ({ label: a, value: a }))" placeholder="no account yet" :input-props="{ 'aria-label': 'For whom' }" /></label>
              <div v-if="sheet" class="row"><NButton @click="print">Print</NButton><RouterLink class="more" :to="`/handover/${account}`">As a file, or for another host</RouterLink><RouterLink class="more" :to="`/accounts/${account}`">The account</RouterLink></div>
            </div>
          </div>
          <FirstUpload v-if="account" class="no-print" :account="account" />
          <HandoverSheet v-if="sheet" :sheet="sheet" />
        </template>
        <div v-if="has('operator') && operator.isOwner()" class="sheet"><header><h2>Another operator</h2></header><OperatorForm :key="`operator${more}`" bare @added="used" /></div>
        <template v-if="has('listeners') || has('passive')">
          <div class="sheet">
            <header><h2>Listeners</h2><span class="soft">pick one to change it; sessions that are open stay</span></header>
            <ListenerTable :listeners="listeners" :picked="listener" @pick="(name) => (listener = name)" />
          </div>
          <ListenerForm v-if="listener" :key="`${listener}${more}`" :listener="listeners.find((l) => l.name === listener)" :may-change="mayChange" @changed="used" />
        </template>
        <div v-if="has('browsers') && mayChange" class="sheet">
          <header><h2>A listener for them</h2></header>
          <form class="fields" @submit.prevent="openDoor">
            <label>Address<NInput v-model:value="door" placeholder=":443" :input-props="{ name: 'door', spellcheck: false }" /></label>
            <div class="row"><NButton attr-type="submit" type="primary" :disabled="!door">Make it</NButton><span class="soft">portal, links and WebDAV over TLS, without the console</span></div>
          </form>
        </div>
        <HostKeys v-if="has('host-keys')" :may-change="mayChange" />
        <div v-if="has('store')" class="sheet">
          <header><h2>Stores</h2></header>
          <ul class="stores"><li v-for="s in stores" :key="s.name"><b>{{ s.name }}</b> <span class="mono">{{ s.folder }}</span></li></ul>
          <StoreForm v-if="mayChange" :key="`store${more}`" @added="used" />
        </div>
        <GroupDetail v-if="has('group') && mayChange" :key="`group${more}`" :may-change="mayChange" @saved="used" />
        <div v-if="wrongs.length" class="sheet no-print">
          <header><h2>What a check-up says of it</h2><button class="plain" @click="load">Look again</button></header>
          <FindingTable :findings="wrongs" label="Findings of this step" />
        </div>
        <p v-else-if="checked" class="soft no-print">A check-up of it finds nothing wrong.</p>
      </div>
    </div>
  </section>
</template>

<style scoped>
.walk { display: grid; grid-template-columns: 300px minmax(0, 1fr); gap: 18px; align-items: start; }
@media (max-width: 899px) { .walk { grid-template-columns: minmax(0, 1fr); } }
nav h2 { padding: 12px 14px 2px; font-size: 13px; color: var(--soft); }
ol { list-style: none; margin: 0; padding: 2px 0 8px; }
li { display: flex; justify-content: space-between; gap: 8px; padding: 7px 14px; border-left: 3px solid transparent; }
li.here { border-left-color: var(--spruce); background: var(--spruce-wash); }
li button span { display: inline-block; width: 20px; }
.one { display: grid; gap: 18px; }
.body { padding: 4px 14px 14px; }
.row { display: flex; gap: 8px; margin-top: 12px; align-items: center; }
.more { margin-left: 10px; }
.stores { list-style: none; margin: 0; padding: 6px 0; }
.stores li { justify-content: flex-start; }
</style>
