<script setup lang="ts">
import { NButton, NPopconfirm, NSelect, useMessage } from 'naive-ui'
import { onMounted, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import TableFrame from './TableFrame.vue'

defineProps<{ mayChange: boolean }>()
type HostKey = Schemas['HostKey']
const message = useMessage()
const keys = ref<HostKey[]>([])
const kind = ref<'ed25519' | 'ecdsa' | 'rsa'>('ed25519')
const kinds = (['ed25519', 'ecdsa', 'rsa'] as const).map((value) => ({ value, label: value }))
const states = { 'in-use': '● in use', announced: '○ announced', retired: '– retired' }

async function act(change?: () => Promise<unknown>) {
  try {
    await change?.()
    keys.value = (await call<Schemas['HostKeyPage']>('GET', '/host-keys')).items
  } catch (error) {
    message.error(sentence(error))
  }
}
onMounted(() => act())

const make = () => act(() => call('POST', '/host-keys', { type: kind.value } satisfies Schemas['HostKeyNew']))
const use = (k: HostKey) => act(() => call('POST', `/host-keys/${k.id}/use`))
const remove = (k: HostKey) => act(() => call('DELETE', `/host-keys/${k.id}`))
</script>

<template>
  <div id="host-keys" class="sheet">
    <header><h2>SSH host keys</h2><span class="soft">by which SFTP clients know this service; tell people the fingerprint of the one their client shows</span></header>
    <TableFrame label="Host keys">
      <thead><tr><th>State</th><th>Type</th><th>Fingerprint and DNS record</th><th></th></tr></thead>
      <tbody>
        <tr v-for="k in keys" :key="k.id">
          <td :class="k.state">{{ states[k.state] }}</td>
          <td>{{ k.type }}<div class="soft">{{ k.bits }} bits</div></td>
          <td class="mono">{{ k.fingerprint }}<div class="soft">IN SSHFP {{ k.sshfp }}</div></td>
          <td v-if="mayChange" class="acts">
            <NPopconfirm v-if="k.state !== 'in-use'" @positive-click="use(k)">
              <template #trigger><button class="plain">Put in use</button></template>
              New connections are shown this key. Clients that have not learnt it yet will warn.
            </NPopconfirm>
            <NPopconfirm @positive-click="remove(k)">
              <template #trigger><button class="plain" :aria-label="`Delete the host key ${k.fingerprint}`">Delete</button></template>
              The key is gone for good.
            </NPopconfirm>
          </td>
        </tr>
      </tbody>
    </TableFrame>
    <div v-if="mayChange" class="foot">
      <NSelect v-model:value="kind" size="small" :options="kinds" :input-props="{ 'aria-label': 'Type of the new key' }" style="width: 120px" />
      <NButton size="small" @click="make">Make and announce a key</NButton>
      <span class="soft">Clients learn an announced key at their next visit. Put it in use once they had the time.</span>
    </div>
  </div>
</template>

<style scoped>
.foot { display: flex; gap: 10px; align-items: center; padding: 10px 14px; border-top: 1px solid var(--line); }
.acts { text-align: right; }
.acts > * + * { margin-left: 14px; }
.in-use { color: var(--spruce); }
.announced { color: var(--copper); }
.retired { color: var(--soft); }
</style>
