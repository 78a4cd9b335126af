<script setup lang="ts">
import { NButton, NInput, NInputNumber, useMessage } from 'naive-ui'
import { computed, onMounted, reactive, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { call, sentence, type Schemas } from '@/api/client'
import { minute, visible, zone } from '@/format'
import TableFrame from '@/parts/TableFrame.vue'

const route = useRoute()
const router = useRouter()
const message = useMessage()
const known = ref<Schemas['ReportPage']['items']>([])
const report = ref<Schemas['Report'] | null>(null)
const ask = reactive({ about: '', days: 30 })
const picked = computed(() => known.value.find((r) => r.name === route.params.report))
const wants: Record<string, string> = { account: 'Account', place: 'File or folder: store:path' }
const query = () => new URLSearchParams({ days: String(ask.days), ...(picked.value?.about && { about: ask.about }) })
const asCSV = computed(() => `/api/v1/reports/${report.value?.name}?${query()}&format=csv`)

onMounted(async () => {
  try {
    known.value = (await call<Schemas['ReportPage']>('GET', '/reports')).items
  } catch (error) {
    message.error(sentence(error))
  }
})

// What is asked lives in the address, so that a report can be sent to a colleague.
watch(
  [() => route.fullPath, known],
  async () => {
    report.value = null
    ask.about = typeof route.query.about === 'string' ? route.query.about : ''
    ask.days = Number(route.query.days) || 30
    if (!picked.value || (picked.value.about && !ask.about)) return
    try {
      report.value = await call<Schemas['Report']>('GET', `/reports/${picked.value.name}?${query()}`)
    } catch (error) {
      message.error(sentence(error))
    }
  },
  { immediate: true },
)
const make = () => router.push({ query: { ...(picked.value?.about && { about: ask.about }), days: String(ask.days) } })
const print = () => window.print()
</script>

<template>
  <section class="page">
    <div class="head"><h1>Reports</h1><span class="soft">the questions auditors ask</span></div>
    <div class="kinds">
      <RouterLink v-for="r in known" :key="r.name" :to="`/reports/${r.name}`" :class="{ here: r.name === picked?.name }">{{ r.title }}</RouterLink>
    </div>
    <form v-if="picked" class="ask" @submit.prevent="make">
      <NInput v-if="picked.about" v-model:value="ask.about" :placeholder="wants[picked.about]" :input-props="{ 'aria-label': wants[picked.about], name: 'about', spellcheck: false }" />
      <label>Days back <NInputNumber v-model:value="ask.days" :min="1" :max="36500" :show-button="false" :input-props="{ 'aria-label': 'Days back' }" /></label>
      <NButton type="primary" attr-type="submit">Make the report</NButton>
    </form>
    <div v-if="report" class="sheet">
      <header>
        <h2>{{ report.title }}</h2><span v-if="report.since" class="soft">since {{ minute(report.since) }} {{ zone }}</span>
        <span class="soft">{{ report.rows.length }}{{ report.cut ? ' and more' : '' }} lines</span>
        <a :href="asCSV" :download="`${report.name}.csv`">CSV</a><button class="plain" @click="print">Print</button>
      </header>
      <TableFrame v-if="report.rows.length" label="Report">
        <thead><tr><th v-for="c in report.columns" :key="c">{{ c }}</th></tr></thead>
        <tbody>
          <tr v-for="(row, i) in report.rows" :key="i"><td v-for="(cell, n) in row" :key="n">{{ visible(cell) }}</td></tr>
        </tbody>
      </TableFrame>
      <p v-else class="none">Nothing to tell.</p>
    </div>
    <p v-else-if="picked?.about" class="soft">Say what it is about: {{ wants[picked.about] }}.</p>
  </section>
</template>

<style scoped>
.kinds { display: flex; flex-wrap: wrap; gap: 6px; }
.kinds a { padding: 5px 12px; border: 1px solid var(--line); border-radius: 4px; background: var(--sheet); text-decoration: none; color: var(--ink); }
.kinds a.here { border-color: var(--spruce); background: var(--spruce-wash); font-weight: 600; }
.ask { display: flex; flex-wrap: wrap; gap: 12px; align-items: center; }
.ask > :first-child:not(label) { max-width: 380px; }
.ask label { display: flex; gap: 8px; align-items: center; color: var(--soft); white-space: nowrap; }
.ask label :deep(.n-input-number) { width: 80px; }
td { white-space: normal; }
@media print { .kinds, .ask, header a, header button { display: none; } }
</style>
