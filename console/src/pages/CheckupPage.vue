<script setup lang="ts">
import { NButton, NSelect, useMessage } from 'naive-ui'
import { computed, onMounted, ref, watch } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import FindingTable from '@/parts/FindingTable.vue'
import StateMark from '@/parts/StateMark.vue'
import TableFrame from '@/parts/TableFrame.vue'

const message = useMessage()
const found = ref<Schemas['Checkup'] | null>(null)
const busy = ref(false)
const only = ref(false)
const ports = ref<Schemas['Ports'] | null>(null)
const filter = ref<string | null>(null)
const states = ['fault', 'warning', 'note', 'fine']
const count = (state: string) => found.value?.findings.filter((f) => f.state === state).length ?? 0
const shown = computed(() => {
  const all = [...(found.value?.findings ?? [])].sort((a, b) => states.indexOf(a.state) - states.indexOf(b.state))
  return only.value ? all.filter((f) => f.state === 'fault' || f.state === 'warning') : all
})

async function look() {
  busy.value = true
  try {
    found.value = await call<Schemas['Checkup']>('GET', '/checkup')
  } catch (error) {
    message.error(sentence(error))
  } finally {
    busy.value = false
  }
}
async function openPorts() {
  try {
    ports.value = await call<Schemas['Ports']>('GET', `/ports${filter.value ? `?firewall=${filter.value}` : ''}`)
  } catch (error) {
    message.error(sentence(error))
  }
}
onMounted(() => Promise.all([look(), openPorts()]))
watch(filter, openPorts)
const span = (p: { low: number; high: number }) => (p.low === p.high ? String(p.low) : `${p.low}-${p.high}`)
</script>

<template>
  <section class="page">
    <div class="head">
      <h1>Check-up</h1><span class="soft">everything that goes wrong in practice, tried just now</span>
      <NButton type="primary" :loading="busy" @click="look">Look again</NButton>
    </div>
    <div class="sheet">
      <header>
        <h2>What was found</h2>
        <span v-for="s in states" :key="s"><StateMark :state="s" /> {{ count(s) }}</span>
        <button class="plain" :aria-pressed="only" @click="only = !only">{{ only ? 'Show everything' : 'Warnings and faults only' }}</button>
      </header>
      <FindingTable v-if="shown.length" :findings="shown" label="Findings" />
      <p v-else class="none">{{ found ? 'Neither a warning nor a fault.' : 'Looking; an address that does not answer takes a few seconds.' }}</p>
    </div>
    <div v-if="ports" id="ports" class="sheet">
      <header><h2>Ports to open, and to forward where a router is in front</h2><span class="soft">each to the same port of this machine</span></header>
      <TableFrame label="Ports">
        <thead><tr><th>TCP port</th><th>For</th></tr></thead>
        <tbody><tr v-for="p in ports.ports" :key="p.low"><td>{{ span(p) }}</td><td>{{ p.for }}<span v-if="p.here" class="soft"> (open here, not forwarded)</span></td></tr></tbody>
      </TableFrame>
      <div class="commands">
        <span id="filter" class="soft">Commands for</span>
        <NSelect v-model:value="filter" class="filter" size="small" clearable placeholder="a packet filter" :options="ports.firewalls.map((f) => ({ label: f, value: f }))" :input-props="{ 'aria-labelledby': 'filter' }" />
        <span class="soft">for you to read and run; nothing here opens a port</span>
      </div>
      <pre v-if="ports.commands.length" class="mono" tabindex="0" aria-label="Commands">{{ ports.commands.join('\n') }}</pre>
    </div>
  </section>
</template>

<style scoped>
.commands { display: flex; gap: 10px; align-items: center; padding: 10px 14px; border-top: 1px solid var(--line); }
.filter { width: 180px; }
pre { margin: 0; padding: 4px 14px 14px; white-space: pre-wrap; }
</style>
