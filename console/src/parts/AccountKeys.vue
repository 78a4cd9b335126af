<script setup lang="ts">
import { NButton, NPopconfirm, useMessage } from 'naive-ui'
import { onMounted, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import { minute, moment, zone } from '@/format'
import KeyForm from './KeyForm.vue'
import ShownOnce from './ShownOnce.vue'

const props = defineProps<{ account: string; mayChange: boolean }>()
const emit = defineEmits<{ changed: [] }>()
const message = useMessage()
const keys = ref<Schemas['Key'][]>([])
const adding = ref(false)
const made = ref('')

async function load() {
  try {
    keys.value = (await call<Schemas['KeyPage']>('GET', `/accounts/${props.account}/keys`)).items
  } catch (error) {
    message.error(sentence(error))
  }
}
onMounted(load)

async function changed() {
  adding.value = false
  await load()
  emit('changed')
}

async function make() {
  try {
    made.value = (await call<Schemas['KeyPair']>('POST', `/accounts/${props.account}/key-pairs`, {} satisfies Schemas['KeyPairNew'])).private
    await changed()
  } catch (error) {
    message.error(sentence(error))
  }
}

async function remove(key: Schemas['Key']) {
  try {
    await call('DELETE', `/accounts/${props.account}/keys/${key.id}`)
    await changed()
  } catch (error) {
    message.error(sentence(error))
  }
}

const expired = (k: Schemas['Key']) => k.expires !== undefined && new Date(k.expires) <= new Date()
</script>

<template>
  <div class="keys">
    <h2>SSH keys</h2>
    <p v-if="!keys.length" class="soft">None.</p>
    <div v-for="k in keys" :key="k.id" class="key">
      <div>
        <b>{{ k.label || 'without a label' }}</b> · {{ k.type }}, {{ k.bits }} bits, <span :class="{ warn: k.strength !== 'strong' }">{{ k.strength }}</span>
        <div class="mono">{{ k.fingerprint }}</div>
        <div class="soft">added {{ minute(k.created) }}, last used {{ moment(k.lastUsed) }}</div>
        <div v-if="k.shelf">from the shelf: <RouterLink to="/shelf">{{ k.shelf }}</RouterLink></div>
        <div v-if="k.authority">An authority: opens with certificates it signed for {{ account }}</div>
        <div v-if="k.expires" :class="{ warn: expired(k) }">{{ expired(k) ? 'expired' : 'works until' }} {{ minute(k.expires) }} {{ zone }}</div>
        <div v-if="k.networks.length">from {{ k.networks.join(', ') }} only</div>
        <div v-if="k.sharedWith.length" :class="{ warn: !k.shelf }">shared with {{ k.sharedWith.join(', ') }}</div>
      </div>
      <NPopconfirm v-if="mayChange" @positive-click="remove(k)">
        <template #trigger><button class="plain" :aria-label="`Remove the key ${k.fingerprint}`">Remove</button></template>
        Whoever holds this key can no longer sign in with it, and sessions it opened end.
      </NPopconfirm>
    </div>
    <ShownOnce v-if="made" :say="`The private key of ${account}`" :secret="made" :file="`${account}.key`" />
    <KeyForm v-if="adding" :account="account" @added="changed" @close="adding = false" />
    <div v-else-if="mayChange" class="row">
      <NButton size="small" @click="adding = true">Add a key</NButton>
      <NPopconfirm @positive-click="make">
        <template #trigger><NButton size="small">Make a key pair</NButton></template>
        For someone who can't make their own. The private half is shown once and kept nowhere.
      </NPopconfirm>
    </div>
  </div>
</template>

<style scoped>
.key { display: flex; gap: 12px; justify-content: space-between; align-items: start; padding: 6px 0 10px; }
.key > :last-child { flex: none; }
.warn { color: var(--copper); font-weight: 600; }
p { margin: 0 0 8px; }
</style>
