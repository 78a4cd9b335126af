<script setup lang="ts">
import { NButton, NPopconfirm, useMessage } from 'naive-ui'
import { onMounted, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import { minute, moment, zone } from '@/format'
import { useOperator } from '@/operator'
import ShelfForm from '@/parts/ShelfForm.vue'
import TableFrame from '@/parts/TableFrame.vue'

// SSH keys that accounts have by reference: what changes here changes for all of them.
const message = useMessage()
const mayChange = useOperator().mayChange()
const keys = ref<Schemas['ShelfKey'][]>([])
const read = ref(false)
const open = ref<Schemas['ShelfKey'] | 'new' | null>(null)

async function load() {
  try {
    keys.value = (await call<Schemas['ShelfPage']>('GET', '/shelf')).items
    read.value = true
  } catch (error) {
    message.error(sentence(error))
  }
}
onMounted(load)
async function remove(k: Schemas['ShelfKey']) {
  try {
    await call('DELETE', `/shelf/${k.name}`)
    message.success(`${k.name} is removed.`)
  } catch (error) {
    message.error(sentence(error), { duration: 8000 })
  }
  void load()
}
const over = (k: Schemas['ShelfKey']) => k.expires !== undefined && new Date(k.expires) <= new Date()
</script>

<template>
  <section class="page">
    <div class="head"><h1>Key shelf</h1><span class="soft">SSH keys with an owner, which accounts have by reference</span><NButton v-if="mayChange && !open" type="primary" @click="open = 'new'">Put a key on the shelf</NButton></div>
    <div class="sheet">
      <ShelfForm v-if="open" :key="open === 'new' ? '' : open.name" :of="open === 'new' ? undefined : open" @saved="load" @close="open = null" />
      <TableFrame label="Keys">
        <thead><tr><th>Key</th><th>Owner</th><th>Fingerprint</th><th>Accounts</th><th>Since, {{ zone }}</th><th>Last used</th><th>Works until</th><th><span class="soft">Change</span></th></tr></thead>
        <tbody>
          <tr v-for="k in keys" :key="k.name">
            <td :title="k.note">{{ k.name }}</td>
            <td class="cut" :title="k.owner">{{ k.owner }}</td>
            <td class="path" :title="k.fingerprint">{{ k.type }} {{ k.fingerprint.slice(7, 19) }}… <b v-if="k.strength !== 'strong'" class="warn">{{ k.strength }}</b></td>
            <td class="cut" :title="k.accounts.join(', ')">{{ k.accounts.join(', ') || 'none' }}</td>
            <td>{{ minute(k.created) }}</td>
            <td>{{ moment(k.lastUsed) }}</td>
            <td :class="{ warn: over(k) }">{{ k.expires ? (over(k) ? '▲ over since ' : '') + minute(k.expires) : '' }}</td>
            <td class="deeds">
              <template v-if="mayChange">
                <button class="plain" :aria-label="`Change ${k.name}`" @click="open = k">Change</button>
                <NPopconfirm @positive-click="remove(k)"><template #trigger><button class="plain" :aria-label="`Remove ${k.name}`">Remove</button></template>No account may have it any more.</NPopconfirm>
              </template>
            </td>
          </tr>
        </tbody>
      </TableFrame>
      <p v-if="read && !keys.length" class="none">None yet. A key that several accounts take is put here once, with who has its private half; when that is replaced, all of them have the new one.</p>
    </div>
  </section>
</template>

<style scoped>
.deeds { white-space: nowrap; }
.deeds button + button { margin-left: 14px; }
td.cut { max-width: 170px; }
.warn { color: var(--copper); }
</style>
