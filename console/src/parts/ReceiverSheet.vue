<script setup lang="ts">
import { NButton, NPopconfirm, useMessage } from 'naive-ui'
import { ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import { minute } from '@/format'
import ReceiverForm from './ReceiverForm.vue'
import TableFrame from './TableFrame.vue'

// Who can be told, and how that does.
defineProps<{ receivers: Schemas['Receiver'][]; mayChange: boolean }>()
const emit = defineEmits<{ changed: [] }>()
const message = useMessage()
const open = ref<Schemas['Receiver'] | 'new' | null>(null)
const busy = ref('')

async function act(r: Schemas['Receiver'], what: () => Promise<string>) {
  busy.value = r.name
  try {
    message.success(await what())
  } catch (error) {
    message.error(sentence(error), { duration: 8000 })
  } finally {
    busy.value = ''
  }
  emit('changed')
}
const test = (r: Schemas['Receiver']) => act(r, async () => {
  const a = await call<Schemas['ReceiverAnswer']>('POST', `/receivers/${r.name}/test`, {})
  if (a.error) throw new Error(`${r.name} could not be told: ${a.error}`)
  return `${r.name} says: ${a.said}`
})
const retry = (r: Schemas['Receiver']) => act(r, async () => {
  const n = (await call<Schemas['Retried']>('POST', `/receivers/${r.name}/retry`, {})).retried
  return n ? `${n} things that were set aside are told again.` : `${r.name} is tried at once.`
})
const remove = (r: Schemas['Receiver']) => act(r, async () => {
  await call('DELETE', `/receivers/${r.name}`)
  return `${r.name} is removed.`
})
const stateOf = (r: Schemas['Receiver']) => (r.off ? '○ off' : r.trouble ? `▲ away since ${minute(r.since)}: ${r.trouble}` : '● ready')
</script>

<template>
  <div id="receivers" class="sheet">
    <ReceiverForm v-if="open" :key="open === 'new' ? '' : open.name" :receiver="open === 'new' ? undefined : open" @saved="emit('changed')" @close="open = null" />
    <header><h2>Receivers</h2><span class="soft">who can be told, by a web call or by mail</span><NButton v-if="mayChange && !open" size="small" @click="open = 'new'">Add a receiver</NButton></header>
    <TableFrame label="Receivers">
      <thead><tr><th>Receiver</th><th>Kind</th><th>Where</th><th>State</th><th class="number">Waiting</th><th class="number">Set aside</th><th>Note</th><th><span class="soft">Change</span></th></tr></thead>
      <tbody>
        <tr v-for="r in receivers" :key="r.name">
          <td>{{ r.name }}</td>
          <td>{{ r.kind }}</td>
          <td class="path" :title="r.url ?? r.to?.join('\n')">{{ r.url ?? r.to?.join(', ') }}</td>
          <td class="wrap" :class="{ warn: r.trouble }">{{ stateOf(r) }}</td>
          <td class="number">{{ r.queued + r.waiting }}</td>
          <td class="number" :class="{ warn: r.aside }">{{ r.aside }}</td>
          <td class="cut" :title="r.note">{{ r.note }}</td>
          <td class="deeds">
            <template v-if="mayChange">
              <button class="plain" :disabled="busy === r.name" :aria-label="`Tell ${r.name} a sample`" @click="test(r)">Test</button>
              <button v-if="r.trouble || r.aside" class="plain" :aria-label="`Try ${r.name} again`" @click="retry(r)">Try again</button>
              <button class="plain" :aria-label="`Change ${r.name}`" @click="open = r">Change</button>
              <NPopconfirm @positive-click="remove(r)"><template #trigger><button class="plain" :aria-label="`Remove ${r.name}`">Remove</button></template>What waits for it is never told.</NPopconfirm>
            </template>
          </td>
        </tr>
      </tbody>
    </TableFrame>
    <p v-if="!receivers.length" class="none">There is nobody to tell.</p>
  </div>
</template>

<style scoped>
.deeds { white-space: nowrap; }
td.wrap { white-space: normal; min-width: 90px; max-width: 320px; }
.deeds button + button { margin-left: 14px; }
.warn { color: var(--copper); }
</style>
