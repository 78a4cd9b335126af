<script setup lang="ts">
import { NSelect, useMessage } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter, type RouteLocationRaw } from 'vue-router'
import { call, sentence, type Schemas } from '@/api/client'
import { day, minute, size, visible, zone } from '@/format'
import TableFrame from '@/parts/TableFrame.vue'
import TimeChart from '@/parts/TimeChart.vue'

type Row = Schemas['TrafficRow']

const route = useRoute()
const router = useRouter()
const message = useMessage()
const traffic = ref<Schemas['Traffic'] | null>(null)

const words = ['account', 'group', 'address', 'protocol', 'action', 'mount', 'file'] as const
type Word = (typeof words)[number]
const narrowing = ['group', 'account', 'address', 'protocol', 'action', 'mount', 'path'] as const
const periods = [
  { label: 'the last 24 hours', value: '1' },
  { label: 'the last 3 days', value: '3' },
  { label: 'the last 2 weeks', value: '14' },
  { label: 'the last 90 days', value: '90' },
  { label: 'the last year', value: '365' },
]
// Where a row leads: what one would ask of it next.
const onward: Record<Word, Word> = { group: 'account', account: 'file', address: 'account', protocol: 'account', action: 'account', mount: 'file', file: 'file' }

const asked = (name: string) => (typeof route.query[name] === 'string' ? route.query[name] : '')
const by = computed(() => (words.includes(asked('by') as Word) ? (asked('by') as Word) : 'account'))
const days = computed(() => asked('days') || '14')
const counts = computed(() => (asked('count') === 'operations' ? 'operations' : 'bytes'))
const filters = computed(() => narrowing.filter((n) => asked(n)).map((n) => ({ name: n, value: asked(n) })))
const since = computed(() => asked('since') || new Date(Date.now() - Number(days.value) * 86_400_000).toISOString())
const query = computed(() => {
  const q = new URLSearchParams({ by: by.value, zone: zone.value, since: since.value })
  if (asked('until')) q.set('until', asked('until'))
  for (const f of filters.value) q.set(f.name, f.value)
  return q
})
// What is asked lives in the address, so that it can be sent to a colleague.
const to = (change: Record<string, string | undefined>): RouteLocationRaw => ({ query: { ...route.query, ...change } })

watch(
  query,
  async (q) => {
    try {
      const found = await call<Schemas['Traffic']>('GET', `/traffic?${q}`)
      if (q === query.value) traffic.value = found
    } catch (error) {
      message.error(sentence(error))
    }
  },
  { immediate: true },
)

const amount = (a: Schemas['Amount']) => (counts.value === 'bytes' ? a.up + a.down : a.operations)
const form = computed(() => (counts.value === 'bytes' ? size : (n: number) => String(Math.round(n))))
const rows = computed(() => [...(traffic.value?.rows ?? [])].sort((a, b) => amount(b) - amount(a)))
const most = computed(() => Math.max(1, ...rows.value.map(amount)))
const named = (r: Row) => visible(r.value) || (by.value === 'group' ? 'in no group' : by.value === 'account' ? 'nobody we know' : by.value === 'mount' ? 'no path meant' : '–')

const picture = computed(() => {
  const t = traffic.value
  if (!t) return { times: [], lines: [] }
  const lines = rows.value.filter((r) => r.points && amount(r) > 0).map((r) => ({ name: (r.account ? `${r.account} ` : '') + named(r), values: r.points!.map(amount), rest: false }))
  const rest = t.points.map((p, i) => Math.max(0, amount(p) - lines.reduce((sum, l) => sum + (l.values[i] ?? 0), 0)))
  if (by.value !== 'group' && rest.some((n) => n > 0)) lines.push({ name: lines.length ? 'others' : 'all', values: rest, rest: true })
  return { times: t.points.map((p) => (t.step === 'day' ? p.at.slice(0, 10) : minute(p.at))), lines }
})

// pick looks at one day by the hour.
function pick(index: number) {
  const t = traffic.value
  const from = t?.points[index]?.at
  if (!t || !from || t.step !== 'day') return
  const until = t.points[index + 1]?.at ?? t.until
  void router.push(to({ since: new Date(from).toISOString(), until: new Date(until).toISOString(), days: undefined }))
}

function further(r: Row): RouteLocationRaw {
  if (by.value !== 'file') return to({ by: onward[by.value], [by.value]: r.value })
  const search: Record<string, string> = { account: r.account ?? '', path: r.value, since: since.value }
  if (asked('until')) search.until = asked('until')
  if (asked('action')) search.action = asked('action')
  return { name: 'audit', query: search }
}
const leads = computed(() => (by.value === 'file' ? 'its audit records' : `by ${onward[by.value]}`))
const period = computed(() => traffic.value && `${minute(traffic.value.since)} to ${minute(traffic.value.until)} ${traffic.value.zone}`)
</script>

<template>
  <section class="page">
    <div class="head">
      <h1>Traffic</h1>
      <span v-if="asked('since')" class="filter">{{ asked('until') && traffic?.step === 'hour' ? day(asked('since')) : period }} <RouterLink :to="to({ since: undefined, until: undefined })" aria-label="All days again">×</RouterLink></span>
      <NSelect v-else :value="days" :options="periods" aria-label="Time" style="width: 180px" @update:value="(v: string) => router.push(to({ days: v }))" />
      <span v-for="f in filters" :key="f.name" class="filter">{{ f.name }} <b>{{ visible(f.value) }}</b> <RouterLink :to="to({ [f.name]: undefined, by: f.name === 'path' ? 'file' : f.name })" :aria-label="`Any ${f.name}`">×</RouterLink></span>
      <span class="soft">this as <a :href="`/api/v1/traffic?${query}&format=csv`" download="traffic.csv">CSV</a> <a :href="`/api/v1/traffic?${query}`">JSON</a></span>
    </div>
    <dl v-if="traffic" class="strip sheet">
      <div><dt>Came in</dt><dd>{{ size(traffic.total.up) }}</dd></div>
      <div><dt>Went out</dt><dd>{{ size(traffic.total.down) }}</dd></div>
      <div><dt>Operations</dt><dd>{{ traffic.total.operations }}</dd></div>
      <div><dt>Refused</dt><dd :class="{ refused: traffic.total.refused }">{{ traffic.total.refused }}</dd></div>
      <div><dt>Failed or interrupted</dt><dd :class="{ failed: traffic.total.failed }">{{ traffic.total.failed }}</dd></div>
      <div><dt>Mean in and out</dt><dd>{{ size((traffic.total.up + traffic.total.down) / Math.max(1, (Date.parse(traffic.until) - Date.parse(traffic.since)) / 1000)) }}/s</dd></div>
    </dl>
    <div v-if="traffic" class="sheet">
      <header>
        <h2>By {{ traffic.step }}</h2>
        <span class="soft">{{ period }}</span>
        <nav class="turn" aria-label="What is counted">
          <RouterLink v-for="c in ['bytes', 'operations']" :key="c" :to="to({ count: c })" :class="{ here: c === counts }">{{ c }}</RouterLink>
        </nav>
      </header>
      <TimeChart v-bind="picture" bars :bytes="counts === 'bytes'" :form="form" :label="`${counts} by ${traffic.step}; the table below has the numbers`" :height="220" @pick="pick" />
    </div>
    <div v-if="traffic" class="sheet">
      <header>
        <h2>Who and what</h2>
        <nav class="turn" aria-label="Broken down by">
          <RouterLink v-for="w in words" :key="w" :to="to({ by: w })" :class="{ here: w === by }">{{ w }}</RouterLink>
        </nav>
      </header>
      <TableFrame v-if="rows.length" label="Traffic">
        <thead>
          <tr><th v-if="by === 'file'">Account</th><th class="by">{{ by }}</th><th class="number">In</th><th class="number">Out</th><th class="number">Operations</th><th class="number">Refused</th><th class="number">Failed</th><th>Of all {{ counts }}</th><th>Further</th></tr>
        </thead>
        <tbody>
          <tr v-for="r in rows" :key="`${r.account} ${r.value}`">
            <td v-if="by === 'file'">{{ r.account }}</td>
            <td :class="{ path: by === 'file' || by === 'mount' }" :title="visible(r.value)">{{ named(r) }}</td>
            <td class="number">{{ r.up ? size(r.up) : '' }}</td>
            <td class="number">{{ r.down ? size(r.down) : '' }}</td>
            <td class="number">{{ r.operations }}</td>
            <td class="number"><b v-if="r.refused" class="refused">{{ r.refused }}</b></td>
            <td class="number"><b v-if="r.failed" class="failed">{{ r.failed }}</b></td>
            <td class="share"><i :style="{ width: `${(amount(r) / most) * 100}%` }"></i></td>
            <td><RouterLink v-if="r.value" :to="further(r)">{{ leads }}</RouterLink></td>
          </tr>
        </tbody>
      </TableFrame>
      <p v-else class="none">Nothing was done in this time.</p>
    </div>
    <p v-if="traffic?.cut" class="soft">There is more than is shown here: ask for a shorter time.</p>
  </section>
</template>

<style scoped>
.head a { margin-left: 4px; }
.filter { background: var(--spruce-wash); border-radius: 3px; padding: 3px 8px; }
.filter a { text-decoration: none; font-weight: 600; padding: 0 4px; }
.refused { color: var(--brick); }
.failed { color: var(--copper); }
.turn { display: flex; flex-wrap: wrap; gap: 4px; margin-left: auto; }
.turn a { padding: 1px 8px; border-radius: 3px; text-decoration: none; color: var(--soft); }
.turn a.here { background: var(--spruce-wash); color: var(--spruce); font-weight: 600; }
.by::first-letter { text-transform: uppercase; }
.share { width: 190px; }
.share i { display: block; height: 10px; margin-top: 5px; min-width: 1px; background: var(--spruce); border-radius: 1px; }
</style>
