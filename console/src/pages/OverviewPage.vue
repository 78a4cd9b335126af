<script setup lang="ts">
import { useMessage } from 'naive-ui'
import { computed, onMounted, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import { useLive } from '@/api/live'
import { clock, moment, rate, zone } from '@/format'
import { useOperator } from '@/operator'
import { useNow } from '@/parts/now'
import SessionTable from '@/parts/SessionTable.vue'
import TimeChart from '@/parts/TimeChart.vue'
import TransferTable from '@/parts/TransferTable.vue'

const live = useLive()
const operator = useOperator()
const message = useMessage()
const now = useNow()
const status = ref<Schemas['Status'] | null>(null)
const shownSessions = 8
const shownTransfers = 14

onMounted(async () => {
  try {
    status.value = await call('GET', '/status')
  } catch (error) {
    message.error(sentence(error))
  }
})

// Of each stretch of five seconds its mean: a quiet line that still shows what comes.
const stretch = 5
const picture = computed(() => {
  const groups = new Map<number, Schemas['Beat'][]>()
  for (const b of live.beats) {
    const at = Math.floor(Date.parse(b.at) / 1000 / stretch)
    groups.set(at, [...(groups.get(at) ?? []), b])
  }
  const rows = [...groups.values()].filter((g) => g.length === stretch || g === [...groups.values()].at(0)).slice(1)
  const mean = (of: 'up' | 'down') => rows.map((g) => Math.round(g.reduce((sum, b) => sum + b[of], 0) / g.length))
  return { times: rows.map((g) => clock(g.at(-1)!.at)), lines: [{ name: 'coming in', values: mean('up') }, { name: 'going out', values: mean('down') }] }
})
</script>

<template>
  <section class="page">
    <div class="head">
      <h1>Overview</h1>
      <span v-if="status" class="soft">running since {{ moment(status.started) }} {{ zone }}</span>
    </div>
    <ul v-if="status?.problems.length" class="sheet problems" role="alert">
      <li v-for="p in status.problems" :key="p"><b>Problem</b> {{ p }}</li>
    </ul>
    <dl class="strip sheet">
      <div><dt>Sessions</dt><dd>{{ live.living }}</dd></div>
      <div><dt>Transfers running</dt><dd>{{ live.moving }}</dd></div>
      <div><dt>Coming in</dt><dd>{{ rate(live.beat?.up ?? 0) }}</dd></div>
      <div><dt>Going out</dt><dd>{{ rate(live.beat?.down ?? 0) }}</dd></div>
      <div><dt>Operations</dt><dd>{{ live.beat?.operations ?? 0 }}/s</dd></div>
      <div v-for="l in status?.listeners" :key="l.name"><dt>{{ l.name.toUpperCase() }}</dt><dd class="address">{{ l.listening || (l.stopped ? 'stopped' : 'can’t listen') }}</dd></div>
    </dl>
    <div class="sheet">
      <header><h2>The last ten minutes</h2><RouterLink to="/traffic">Traffic over time</RouterLink></header>
      <TimeChart v-bind="picture" bytes :form="rate" label="Bytes per second that came in and went out in the last ten minutes" :height="130" />
    </div>
    <div class="sheet">
      <header><h2>Live sessions</h2><RouterLink to="/sessions">All {{ live.living || '' }}</RouterLink></header>
      <SessionTable :rows="live.sessionRows.slice(0, shownSessions)" :may-end="operator.mayChange()" :now="now" />
    </div>
    <div class="sheet">
      <header><h2>Newest transfers</h2><RouterLink to="/transfers">All</RouterLink><span class="soft">times in {{ zone }}</span></header>
      <TransferTable :rows="live.transferRows.slice(0, shownTransfers)" :may-end="operator.mayChange()" label="Newest transfers" none="Nothing has been moved since the service started." />
    </div>
  </section>
</template>

<style scoped>
.problems { margin: 0; padding: 10px 14px; list-style: none; color: var(--brick); overflow-wrap: anywhere; }
.strip dd.address { font-size: 13px; font-weight: 400; line-height: 26px; }
</style>
