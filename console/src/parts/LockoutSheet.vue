<script setup lang="ts">
import { useMessage } from 'naive-ui'
import { call, sentence, type Schemas } from '@/api/client'
import { minute, zone } from '@/format'
import ListEnd from './ListEnd.vue'
import TableFrame from './TableFrame.vue'
import { useWindow } from './window'

defineProps<{ mayChange: boolean }>()
type Lockout = Schemas['Lockout']
const message = useMessage()
const { items: lockouts, total, load, more } = useWindow<Lockout>('/lockouts', message.error)

function who(l: Lockout) {
  const target = l.account?.includes(' ') ? l.account : l.account ? `account ${l.account}` : `address ${l.address}`
  return l.codes ? `codes of ${target}` : target
}

async function lift(l: Lockout) {
  try {
    await call('DELETE', `/lockouts/${encodeURIComponent(l.account ?? l.address ?? '')}`)
  } catch (error) {
    message.error(sentence(error))
  }
  await load()
}
</script>

<template>
  <div id="lockouts" class="sheet">
    <header><h2>Lockouts</h2><span class="soft">after failed sign-ins; they end by themselves</span></header>
    <p v-if="!lockouts.length" class="none">Nobody is locked out.</p>
    <TableFrame v-else label="Lockouts">
      <thead><tr><th>Who</th><th>Until ({{ zone }})</th><th class="number">Failed sign-ins</th><th></th></tr></thead>
      <tbody>
        <tr v-for="l in lockouts" :key="`${l.account} ${l.address} ${l.codes}`">
          <td>{{ who(l) }}</td>
          <td>{{ minute(l.expires) }}</td>
          <td class="number">{{ l.failed }}</td>
          <td class="number"><button v-if="mayChange" class="plain" @click="lift(l)">Lift</button></td>
        </tr>
      </tbody>
    </TableFrame>
    <ListEnd :shown="lockouts.length" :total="total" @more="more" />
  </div>
</template>

<style scoped>
.none { padding: 12px 14px; margin: 0; }
</style>
