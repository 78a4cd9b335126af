<script setup lang="ts">
import { NPopconfirm, useMessage } from 'naive-ui'
import { onMounted, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import { minute, visible, zone } from '@/format'
import { useOperator } from '@/operator'
import TableFrame from './TableFrame.vue'

// The locks of WebDAV clients; there are none on most days.
const message = useMessage()
const mayChange = useOperator().mayChange()
const locks = ref<Schemas['Lock'][]>([])
async function load() {
  try {
    locks.value = (await call<Schemas['LockPage']>('GET', '/locks')).items
  } catch (error) {
    message.error(sentence(error))
  }
}
onMounted(load)
async function end(l: Schemas['Lock']) {
  try {
    await call('DELETE', `/locks/${l.id}`)
    message.success('The lock is broken.')
  } catch (error) {
    message.error(sentence(error))
  }
  await load()
}
</script>

<template>
  <div v-if="locks.length" class="sheet">
    <header><h2>Locks over WebDAV</h2></header>
    <TableFrame label="Locks">
      <thead><tr><th>Account</th><th>Place</th><th>Holds for</th><th>Kind</th><th>Since, {{ zone }}</th><th>Until</th><th><span class="soft">Change</span></th></tr></thead>
      <tbody>
        <tr v-for="l in locks" :key="l.id">
          <td>{{ l.account }}</td><td class="path">{{ visible(`${l.store}:${l.path}`) }}</td><td>{{ l.deep ? 'all in it' : 'it alone' }}</td><td>{{ l.shared ? 'shared' : 'exclusive' }}</td><td>{{ minute(l.created) }}</td><td>{{ minute(l.expires) }}</td>
          <td><NPopconfirm v-if="mayChange" @positive-click="end(l)"><template #trigger><button class="plain" :aria-label="`Break the lock on ${l.path}`">Break it</button></template>Whoever holds it is not told, and may lose what is not saved.</NPopconfirm></td>
        </tr>
      </tbody>
    </TableFrame>
  </div>
</template>
