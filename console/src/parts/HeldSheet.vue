<script setup lang="ts">
import { useMessage } from 'naive-ui'
import { onMounted, onUnmounted, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import { minute, size, visible, zone } from '@/format'
import TableFrame from './TableFrame.vue'

// Uploads that wait for their check; there is no sheet while nothing does.
defineProps<{ mayChange: boolean }>()
const message = useMessage()
const held = ref<Schemas['Held'][]>([])
let timer = 0
async function load() {
  try {
    held.value = (await call<Schemas['HeldPage']>('GET', '/held')).items
  } catch (error) {
    message.error(sentence(error))
  }
}
onMounted(() => {
  void load()
  timer = window.setInterval(load, 5000)
})
onUnmounted(() => window.clearInterval(timer))
async function decide(h: Schemas['Held'], answer: 'yes' | 'no') {
  try {
    await call('POST', `/held/${h.id}`, { answer })
    message.success(answer === 'yes' ? 'It is let in.' : 'It is refused.')
  } catch (error) {
    message.error(sentence(error))
  }
  await load()
}
</script>

<template>
  <div v-if="held.length" id="held" class="sheet">
    <header><h2>Uploads that wait for their check</h2><span class="soft">until it says yes, only who uploaded them sees them</span></header>
    <TableFrame label="Uploads that wait for their check">
      <thead><tr><th>Since, {{ zone }}</th><th>Account</th><th>Path</th><th class="number">Size</th><th>Checked by</th><th>State</th><th>Last answer</th><th><span class="soft">Decide</span></th></tr></thead>
      <tbody>
        <tr v-for="h in held" :key="h.id">
          <td>{{ minute(h.since) }}</td><td>{{ h.account }}{{ h.pass ? `, pass ${h.pass}` : '' }}</td><td class="path" :title="visible(h.path)">{{ visible(h.path) }}</td><td class="number">{{ size(h.size) }}</td><td>{{ h.receiver }}</td>
          <td>{{ h.state === 'coming' ? '○ coming' : '● waiting' }}</td><td class="cut" :title="h.said">{{ h.said }}</td>
          <td class="deeds"><template v-if="mayChange && h.state === 'waiting'"><button class="plain" :aria-label="`Let ${visible(h.path)} in`" @click="decide(h, 'yes')">Let it in</button><button class="plain" :aria-label="`Refuse ${visible(h.path)}`" @click="decide(h, 'no')">Refuse it</button></template></td>
        </tr>
      </tbody>
    </TableFrame>
  </div>
</template>

<style scoped>
.deeds button + button { margin-left: 14px; }
</style>
