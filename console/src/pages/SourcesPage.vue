<script setup lang="ts">
import { NButton, NPopconfirm, useMessage } from 'naive-ui'
import { onMounted, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import { minute } from '@/format'
import { useOperator } from '@/operator'
import RouteSheet from '@/parts/RouteSheet.vue'
import SourceCheck from '@/parts/SourceCheck.vue'
import SourceForm from '@/parts/SourceForm.vue'
import TableFrame from '@/parts/TableFrame.vue'

// Who says whether somebody is who they say, and which of them is asked for whom.
const message = useMessage()
const owner = useOperator().isOwner()
const sources = ref<Schemas['Source'][]>([])
const read = ref(false)
const open = ref<Schemas['Source'] | 'new' | null>(null)
const checked = ref<Schemas['Source'] | null>(null)

async function load() {
  try {
    sources.value = (await call<Schemas['SourcePage']>('GET', '/sources')).items
    read.value = true
  } catch (error) {
    message.error(sentence(error))
  }
}
onMounted(load)
async function remove(s: Schemas['Source']) {
  try {
    await call('DELETE', `/sources/${s.name}`)
    message.success(`${s.name} is removed.`)
  } catch (error) {
    message.error(sentence(error), { duration: 8000 })
  }
  void load()
}
const standards = { openid: 'OpenID Connect', saml: 'SAML' }
const stateOf = (s: Schemas['Source']) => (s.off ? '○ off' : s.awaySince ? `▲ away since ${minute(s.awaySince)}: ${s.trouble}` : '● ready')
function show(what: 'check' | 'form', s: Schemas['Source'] | 'new') {
  checked.value = what === 'check' && s !== 'new' ? s : null
  open.value = what === 'form' ? s : null
}
</script>

<template>
  <section class="page">
    <div class="head"><h1>Sources</h1><span class="soft">who says whether somebody is who they say</span><NButton v-if="owner && !open" type="primary" @click="show('form', 'new')">Add a source</NButton></div>
    <div class="sheet">
      <SourceForm v-if="open" :key="open === 'new' ? '' : open.name" :source="open === 'new' ? undefined : open" @saved="load" @close="open = null" />
      <SourceCheck v-if="checked" :key="checked.name" :source="checked" @close="checked = null" />
      <TableFrame label="Sources">
        <thead><tr><th>Source</th><th>Kind</th><th>Servers</th><th>State</th><th class="number">Accounts</th><th>Note</th><th><span class="soft">Change</span></th></tr></thead>
        <tbody>
          <tr><td>own</td><td>own</td><td>the records of this service</td><td>● ready</td><td></td><td></td><td></td></tr>
          <tr v-for="s in sources" :key="s.name" :class="{ over: s.off }">
            <td>{{ s.name }}</td>
            <td>{{ s.standard ? standards[s.standard] : s.kind }}</td>
            <td class="path" :title="s.servers.join('\n')">{{ s.servers.join(', ') || 'by its metadata' }} <b v-if="s.plain" class="warn">without TLS</b></td>
            <td class="wrap" :class="{ warn: s.awaySince }">{{ stateOf(s) }}</td>
            <td class="number">{{ s.accounts }}</td>
            <td class="cut" :title="s.note">{{ s.note }}</td>
            <td class="deeds">
              <template v-if="owner">
                <button class="plain" :aria-label="`Check ${s.name}`" @click="show('check', s)">Check</button>
                <button class="plain" :aria-label="`Change ${s.name}`" @click="show('form', s)">Change</button>
                <NPopconfirm @positive-click="remove(s)"><template #trigger><button class="plain" :aria-label="`Remove ${s.name}`">Remove</button></template>Nobody is asked about anything there any more.</NPopconfirm>
              </template>
            </td>
          </tr>
        </tbody>
      </TableFrame>
      <p v-if="read && !sources.length" class="none">The service's own records are the only source. A directory, a RADIUS server or a single sign-on can be another.</p>
    </div>
    <RouteSheet v-if="read" :sources="sources.map((s) => s.name)" :owner="owner" />
  </section>
</template>

<style scoped>
.over td { color: var(--soft); }
.deeds { white-space: nowrap; }
.deeds button + button { margin-left: 14px; }
td.wrap { white-space: normal; min-width: 90px; max-width: 320px; }
td.cut { max-width: 150px; }
.warn { color: var(--copper); }
</style>
