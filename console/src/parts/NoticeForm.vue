<script setup lang="ts">
import { NButton, NInput, NSelect } from 'naive-ui'
import { computed, reactive, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import { lengthOf, lines, words } from './notice'

// Makes a notice, or changes one.
const props = defineProps<{ notice?: Schemas['Notice']; receivers: Schemas['Receiver'][]; events: Schemas['NoticeEvent'][] }>()
const emit = defineEmits<{ saved: []; close: [] }>()
const n = props.notice
const form = reactive({
  name: n?.name ?? '', note: n?.note ?? '', events: n?.events ?? [], receivers: n?.receivers ?? [], accounts: n?.accounts?.join(', ') ?? '', groups: n?.groups?.join(', ') ?? '',
  networks: n?.networks?.join(', ') ?? '', protocols: n?.protocols?.join(', ') ?? '', paths: n?.paths?.join('\n') ?? '', minSize: n?.minSize ? String(n.minSize) : '', maxSize: n?.maxSize ? String(n.maxSize) : '',
  outcomes: n?.outcomes ?? [], days: n?.expect?.days ?? n?.window?.days ?? '', hours: n?.window?.hours ?? '', zone: n?.expect?.zone ?? n?.window?.zone ?? '', by: n?.expect?.by ?? '', fetch: n?.expect?.fetch ?? false, within: lengthOf(n?.expect?.within ?? 86400),
})
const wrong = ref('')
const groups = { files: 'Files', people: 'People and passes', house: 'The house' } as const
const choices = computed(() => (['files', 'people', 'house'] as const).map((kind) => ({ type: 'group' as const, label: groups[kind], key: kind, children: props.events.filter((e) => e.kind === kind).map((e) => ({ label: `${e.event}: ${e.says}`, value: e.event })) })))
const files = computed(() => form.events.some((e) => props.events.find((one) => one.event === e)?.kind === 'files') || expects.value)
const expects = computed(() => form.events.includes('not-come'))
const outcomes = ['done', 'refused', 'failed'].map((value) => ({ label: value, value }))

function seconds(text: string): number {
  const found = /^(\d+)(d|h|m|s)$/.exec(text.trim())
  return found ? Number(found[1]) * { d: 86400, h: 3600, m: 60, s: 1 }[found[2] as 'd'] : NaN
}
function asked(): Schemas['Notice'] {
  const bytes = (text: string) => (text.trim() ? (text.trim() as unknown as number) : 0)
  return {
    name: form.name, note: form.note, events: form.events, receivers: form.receivers, accounts: words(form.accounts), groups: words(form.groups), networks: words(form.networks), protocols: words(form.protocols),
    paths: files.value ? lines(form.paths) : [], minSize: files.value ? bytes(form.minSize) : 0, maxSize: files.value ? bytes(form.maxSize) : 0, outcomes: form.outcomes as Schemas['Notice']['outcomes'],
    expect: expects.value ? { fetch: form.fetch, by: form.by, days: form.days, zone: form.zone, within: seconds(form.within) } : null,
    window: !expects.value && (form.days || form.hours) ? { days: form.days, hours: form.hours, zone: form.zone } : null,
  }
}
async function save() {
  wrong.value = ''
  try {
    const ask = asked()
    await (n ? call('PATCH', `/notices/${n.name}`, ask satisfies Schemas['NoticeChange']) : call('POST', '/notices', ask))
    emit('saved')
  } catch (error) {
    wrong.value = sentence(error)
  }
}
const past = ref('')
async function dryRun() {
  wrong.value = past.value = ''
  try {
    const run = await call<Schemas['NoticeDryRun']>('POST', '/notice-dry-runs?since=-7d', { ...asked(), name: form.name || 'x' })
    past.value = `In the last 7 days it would have told ${run.count === 1 ? 'once' : `${run.count} times`}.`
  } catch (error) {
    wrong.value = sentence(error)
  }
}
</script>

<template>
  <form class="fields" @submit.prevent="save">
    <h2 v-if="!n">A new notice</h2>
    <label v-if="!n">Name<NInput v-model:value="form.name" placeholder="" autofocus :input-props="{ name: 'notice', spellcheck: false, autocapitalize: 'none' }" /></label>
    <label>When this happens<NSelect v-model:value="form.events" multiple :options="choices" :input-props="{ 'aria-label': 'When this happens' }" placeholder="" /></label>
    <label>Tell<NSelect v-model:value="form.receivers" multiple :options="receivers.map((r) => ({ label: r.name, value: r.name }))" :input-props="{ 'aria-label': 'Tell' }" placeholder="" /></label>
    <template v-if="expects">
      <label class="tick"><input v-model="form.fetch" type="checkbox" name="fetch" />a download is expected, not an upload</label>
      <label>It must have come by (as in 06:30)<NInput v-model:value="form.by" placeholder="" :input-props="{ name: 'by' }" /></label>
      <label>at the earliest so long before<NInput v-model:value="form.within" placeholder="" :input-props="{ name: 'within' }" /></label>
    </template>
    <label>Only these accounts, as in gauge-*; none is all<NInput v-model:value="form.accounts" placeholder="" :input-props="{ name: 'accounts', spellcheck: false, autocapitalize: 'none' }" /></label>
    <label>Only accounts of these groups; none is all<NInput v-model:value="form.groups" placeholder="" :input-props="{ name: 'groups', spellcheck: false, autocapitalize: 'none' }" /></label>
    <template v-if="files">
      <label>Only these paths, one on each line, as in /in or /in/**/*.tif; none is all<NInput v-model:value="form.paths" type="textarea" :rows="2" placeholder="" :input-props="{ name: 'paths', spellcheck: false }" /></label>
      <label>Least size, as in 1M<NInput v-model:value="form.minSize" placeholder="" :input-props="{ name: 'minSize' }" /></label>
      <label>Largest size<NInput v-model:value="form.maxSize" placeholder="" :input-props="{ name: 'maxSize' }" /></label>
      <label>With these outcomes; none is done<NSelect v-model:value="form.outcomes" multiple :options="outcomes" :input-props="{ 'aria-label': 'Outcomes' }" placeholder="" /></label>
    </template>
    <label>Only from these networks; none is all<NInput v-model:value="form.networks" placeholder="" :input-props="{ name: 'networks', spellcheck: false }" /></label>
    <label>Only over these protocols; none is all<NInput v-model:value="form.protocols" placeholder="" :input-props="{ name: 'protocols', spellcheck: false }" /></label>
    <label>Days, as in mon-fri; none is every day<NInput v-model:value="form.days" placeholder="" :input-props="{ name: 'days' }" /></label>
    <label v-if="!expects">Hours, as in 18:00-06:00; none is all day<NInput v-model:value="form.hours" placeholder="" :input-props="{ name: 'hours' }" /></label>
    <label>Time zone of these, as in Europe/Oslo; none is UTC<NInput v-model:value="form.zone" placeholder="" :input-props="{ name: 'zone' }" /></label>
    <label>Note, for the list<NInput v-model:value="form.note" placeholder="" :input-props="{ name: 'notice-note' }" /></label>
    <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
    <p v-if="past" role="status">{{ past }}</p>
    <div class="row"><NButton type="primary" attr-type="submit" :disabled="!form.name || !form.events.length || !form.receivers.length">{{ n ? 'Save' : 'Add the notice' }}</NButton><NButton :disabled="!form.events.length || !form.receivers.length" @click="dryRun">What would it have told?</NButton><NButton @click="$emit('close')">Cancel</NButton></div>
  </form>
</template>

<style scoped>
.fields { grid-template-columns: repeat(auto-fit, minmax(min(280px, 100%), 1fr)); max-width: 900px; align-items: end; }
.fields > h2, .fields > p, .row { grid-column: 1 / -1; margin: 0; }
.fields .tick { display: flex; gap: 8px; align-items: center; color: var(--ink); }
</style>
