<script setup lang="ts">
import { NButton, NInput, NSelect, useMessage } from 'naive-ui'
import { reactive, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { call, follow, sentence, type Schemas } from '@/api/client'
import { moment, size, span, visible, zone } from '@/format'
import OutcomeMark from '@/parts/OutcomeMark.vue'
import OverMark from '@/parts/OverMark.vue'
import TableFrame from '@/parts/TableFrame.vue'

type AuditRecord = Schemas['AuditRecord']

const route = useRoute()
const router = useRouter()
const message = useMessage()
const records = ref<AuditRecord[]>([])
const next = ref<string>()
const loaded = ref(false)
const opened = ref(0)
const progress = ref('')
const count = ref<Schemas['AuditCount'] | null>(null)
const fields = ['account', 'network', 'path', 'has', 'text', 'action', 'since', 'until', 'outcome'] as const
const filter = reactive(Object.fromEntries(fields.map((f) => [f, ''])) as Record<(typeof fields)[number], string>)
const outcomes = ['done', 'refused', 'failed', 'interrupted'].map((o) => ({ label: o, value: o }))

// The filters live in the address, so that a search can be sent to a colleague.
watch(
  () => route.query,
  (query) => {
    for (const f of fields) filter[f] = typeof query[f] === 'string' ? query[f] : ''
    void load(false)
  },
  { immediate: true },
)

function search() {
  void router.push({ query: Object.fromEntries(fields.filter((f) => filter[f]).map((f) => [f, filter[f]])) })
}

async function load(more: boolean) {
  const query = new URLSearchParams(fields.filter((f) => filter[f]).map((f) => [f, filter[f]] as [string, string]))
  if (more && next.value) query.set('before', next.value)
  try {
    const page = await call<Schemas['AuditPage']>('GET', `/audit?${query}`)
    if (!more) void tally(query)
    records.value = more ? [...records.value, ...page.items] : page.items
    next.value = page.next
  } catch (error) {
    message.error(sentence(error))
  }
  loaded.value = true
}

async function tally(query: URLSearchParams) {
  count.value = null
  count.value = await call<Schemas['AuditCount']>('GET', `/audit/count?${query}`).catch(() => null)
}

// What a record says in fields of its own, in words.
function facts(r: AuditRecord) {
  return [
    r.replaced && 'a file gave way',
    r.piece && 'it has not its name yet',
    r.held && 'held until it is checked',
    r.rehearsal && 'a rehearsal, on files that nobody else sees',
    r.holder && `of ${r.holder}`,
    r.hash && `SHA-256 ${r.hash}`,
    r.before && `before ${JSON.stringify(r.before)}`,
    r.after && `after ${JSON.stringify(r.after)}`,
    r.undoes && `it took change ${r.undoes} back`,
  ].filter((fact) => typeof fact === 'string')
}

async function verify() {
  try {
    let report: Schemas['AuditReport'] | undefined
    progress.value = 'Verifying'
    await follow<Schemas['AuditReport'] & { total?: number }>('/audit/verify?follow=1', (line) => {
      if (line.total) progress.value = `Verifying: ${Math.floor((100 * line.checked) / line.total)}%`
      else report = line
    })
    if (!report) throw new Error('The service ended the walk.')
    if (report.badSeq) message.error(`The chain is broken: ${report.problem}.`, { duration: 0, closable: true })
    else message.success(`The chain holds: ${report.checked} records are as they were written; ${report.checkpoints} signed checkpoints agree${report.archived ? `; ${report.archives} archive files are as they were sealed${report.elsewhere ? `, ${report.elsewhere} were not there` : ''}` : ''}${report.waiting ? `; ${report.waiting} more are in the journal until the disk takes them` : ''}.`)
  } catch (error) {
    message.error(sentence(error))
  }
  progress.value = ''
}

const formats = ['csv', 'jsonl', 'xferlog', 'w3c']
const exported = (format: string) => `/api/v1/audit/export?${new URLSearchParams([['format', format], ...fields.filter((f) => route.query[f]).map((f) => [f, String(route.query[f])])])}`
const who = (r: AuditRecord) => r.account ?? (r.operator ? `operator ${r.operator}` : 'the service')
const what = (r: AuditRecord) => [r.path, r.target].filter(Boolean).map((p) => visible(p ?? '')).join(' → ')
</script>

<template>
  <section class="page">
    <div class="head">
      <h1>Audit trail</h1>
      <span v-if="count" class="soft">{{ count.more ? 'at least ' : '' }}{{ count.count }} records</span>
      <span class="soft">this search as <a v-for="f in formats" :key="f" :href="exported(f)" :download="`audit.${f}`">{{ f }}</a></span>
      <NButton :disabled="progress !== ''" @click="verify">{{ progress || 'Verify the chain' }}</NButton>
    </div>
    <form class="filters" @submit.prevent="search">
      <NInput v-model:value="filter.account" placeholder="Account" :input-props="{ 'aria-label': 'Account' }" />
      <NInput v-model:value="filter.network" placeholder="Address or network" :input-props="{ 'aria-label': 'Address or network' }" />
      <NInput v-model:value="filter.path" placeholder="Path and below" :input-props="{ 'aria-label': 'Path and below' }" />
      <NInput v-model:value="filter.has" placeholder="Part of a path" :input-props="{ 'aria-label': 'Part of a path' }" />
      <NInput v-model:value="filter.text" placeholder="Any text" :input-props="{ 'aria-label': 'Any text' }" />
      <NInput v-model:value="filter.action" placeholder="Action, as in upload,delete" :input-props="{ 'aria-label': 'Action' }" />
      <NInput v-model:value="filter.since" placeholder="Since, 2026-03-01T00:00:00Z" :input-props="{ 'aria-label': 'Since' }" />
      <NInput v-model:value="filter.until" placeholder="Until" :input-props="{ 'aria-label': 'Until' }" />
      <NSelect :value="filter.outcome || null" :options="outcomes" clearable placeholder="Outcome" aria-label="Outcome" @update:value="(v: string | null) => (filter.outcome = v ?? '')" />
      <NButton type="primary" attr-type="submit">Search</NButton>
    </form>
    <div class="sheet">
      <TableFrame v-if="records.length" label="Audit records">
        <thead>
          <tr><th class="number">Record</th><th>Time ({{ zone }})</th><th>Who</th><th>From</th><th>Over</th><th>Did</th><th>What</th><th class="number">Size</th><th>Outcome</th></tr>
        </thead>
        <tbody>
          <template v-for="r in records" :key="r.seq">
            <tr class="pick" :class="{ picked: opened === r.seq }" @click="opened = opened === r.seq ? 0 : r.seq">
              <td class="number"><button class="plain" :aria-expanded="opened === r.seq" @click.stop="opened = opened === r.seq ? 0 : r.seq">{{ r.seq }}</button></td>
              <td>{{ moment(r.at) }}</td>
              <td>{{ who(r) }}</td>
              <td>{{ r.address }}</td>
              <td><OverMark v-if="r.protocol" :protocol="r.protocol" :encrypted="r.encrypted" /></td>
              <td>{{ r.action }}</td>
              <td class="path" :title="what(r)">{{ what(r) }}</td>
              <td class="number">{{ r.bytes ? size(r.bytes) : '' }}</td>
              <td><OutcomeMark :outcome="r.outcome" :reason="r.reason" /></td>
            </tr>
            <tr v-if="opened === r.seq" class="more">
              <td></td>
              <td colspan="8">
                <span v-if="r.session">session {{ r.session }} · </span>took {{ span(r.seconds) }}<span v-if="r.offset"> · from byte {{ r.offset }}</span>
                <div v-if="r.detail" class="mono">{{ visible(r.detail) }}</div>
                <div v-for="fact in facts(r)" :key="fact" class="mono">{{ visible(fact) }}</div>
              </td>
            </tr>
          </template>
        </tbody>
      </TableFrame>
      <p v-else-if="loaded" class="none">{{ next ? 'Nothing among the newest records.' : 'No record matches.' }}</p>
    </div>
    <div v-if="next"><NButton @click="load(true)">{{ records.length ? 'Older records' : 'Look further back' }}</NButton></div>
  </section>
</template>

<style scoped>
.head a { margin-left: 8px; }
th, td { padding-left: 7px; padding-right: 7px; }
.more td { white-space: normal; color: var(--soft); background: var(--raised); }
</style>
