<script setup lang="ts">
import { NButton, NInput, NSelect, useMessage } from 'naive-ui'
import { computed, reactive, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { call, sentence, type Schemas, type Transfer } from '@/api/client'
import { useLive } from '@/api/live'
import { zone } from '@/format'
import { useOperator } from '@/operator'
import TransferTable from '@/parts/TransferTable.vue'

const route = useRoute()
const router = useRouter()
const live = useLive()
const operator = useOperator()
const message = useMessage()
const ended = ref<Transfer[]>([])
const next = ref<string>()
const fields = ['account', 'address', 'path', 'outcome'] as const
const filter = reactive(Object.fromEntries(fields.map((f) => [f, ''])) as Record<(typeof fields)[number], string>)
const outcomes = ['done', 'refused', 'failed', 'interrupted'].map((o) => ({ label: o, value: o }))
const most = 100 // running ones that are drawn at once

const running = computed(() => live.running.filter((t) => (!filter.account || t.account === filter.account) && (!filter.path || t.path.startsWith(filter.path))))
// What has ended since the page was loaded is shown without asking again.
const newer = computed(() => {
  const last = ended.value[0]?.ended ?? ''
  const filtered = fields.some((f) => route.query[f])
  return filtered ? [] : live.transferRows.filter((t) => t.outcome !== 'running' && (t.ended ?? '') > last)
})

watch(
  () => route.query,
  (query) => {
    for (const f of fields) filter[f] = typeof query[f] === 'string' ? query[f] : ''
    void load(false)
  },
  { immediate: true },
)
const search = () => router.push({ query: Object.fromEntries(fields.filter((f) => filter[f]).map((f) => [f, filter[f]])) })

async function load(more: boolean) {
  const query = new URLSearchParams(fields.filter((f) => filter[f]).map((f) => [f, filter[f]] as [string, string]))
  if (more && next.value) query.set('before', next.value)
  try {
    const page = await call<Schemas['TransferPage']>('GET', `/transfers?${query}`)
    const items = page.items.filter((t) => t.outcome !== 'running')
    ended.value = more ? [...ended.value, ...items] : items
    next.value = page.next
  } catch (error) {
    message.error(sentence(error))
  }
}
</script>

<template>
  <section class="page">
    <div class="head"><h1>Transfers</h1><span class="soft">times in {{ zone }}</span></div>
    <form class="filters" @submit.prevent="search">
      <NInput v-model:value="filter.account" placeholder="Account" :input-props="{ 'aria-label': 'Account' }" />
      <NInput v-model:value="filter.address" placeholder="Address" :input-props="{ 'aria-label': 'Address' }" />
      <NInput v-model:value="filter.path" placeholder="Path and below" :input-props="{ 'aria-label': 'Path and below' }" />
      <NSelect :value="filter.outcome || null" :options="outcomes" clearable placeholder="Outcome" aria-label="Outcome" @update:value="(v: string | null) => (filter.outcome = v ?? '')" />
      <NButton type="primary" attr-type="submit">Search</NButton>
    </form>
    <div class="sheet">
      <header><h2>Running</h2><span class="soft">{{ live.moving }}</span></header>
      <TransferTable :rows="running.slice(0, most)" :may-end="operator.mayChange()" full label="Running transfers" none="Nothing moves now." />
    </div>
    <div class="sheet">
      <header><h2>Ended</h2></header>
      <TransferTable :rows="[...newer, ...ended]" :may-end="false" full label="Ended transfers" none="No transfer matches." />
    </div>
    <div v-if="next"><NButton @click="load(true)">Older transfers</NButton></div>
  </section>
</template>
