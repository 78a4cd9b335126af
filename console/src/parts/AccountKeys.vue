<script setup lang="ts">
import { NButton, NInput, NPopconfirm, useMessage } from 'naive-ui'
import { onMounted, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import { moment } from '@/format'

const props = defineProps<{ account: string; mayChange: boolean }>()
const emit = defineEmits<{ changed: [] }>()
const message = useMessage()
const keys = ref<Schemas['Key'][]>([])
const adding = ref(false)
const text = ref('')
const wrong = ref('')

async function load() {
  try {
    keys.value = (await call<Schemas['KeyPage']>('GET', `/accounts/${props.account}/keys`)).items
  } catch (error) {
    message.error(sentence(error))
  }
}
onMounted(load)

async function add() {
  wrong.value = ''
  try {
    await call('POST', `/accounts/${props.account}/keys`, { key: text.value } satisfies Schemas['KeyNew'])
    text.value = ''
    adding.value = false
    await load()
    emit('changed')
  } catch (error) {
    wrong.value = sentence(error)
  }
}

async function remove(key: Schemas['Key']) {
  try {
    await call('DELETE', `/accounts/${props.account}/keys/${key.id}`)
    await load()
    emit('changed')
  } catch (error) {
    message.error(sentence(error))
  }
}
</script>

<template>
  <div class="keys">
    <h2>SSH keys</h2>
    <p v-if="!keys.length" class="soft">None.</p>
    <div v-for="k in keys" :key="k.id" class="key">
      <div>
        {{ k.type }}, {{ k.bits }} bits<span v-if="k.label"> · {{ k.label }}</span>
        <div class="mono">{{ k.fingerprint }}</div>
        <div class="soft">added {{ moment(k.added) }}, last used {{ moment(k.lastUsed) }}</div>
      </div>
      <NPopconfirm v-if="mayChange" @positive-click="remove(k)">
        <template #trigger><button class="plain" :aria-label="`Remove the key ${k.fingerprint}`">Remove</button></template>
        Whoever holds this key can no longer sign in with it.
      </NPopconfirm>
    </div>
    <form v-if="adding" @submit.prevent="add">
      <label>Public key<NInput v-model:value="text" type="textarea" :rows="3" placeholder="ssh-ed25519 …" autofocus :input-props="{ name: 'newKey' }" /></label>
      <p class="wrong" role="alert">{{ wrong }}</p>
      <div class="row"><NButton type="primary" size="small" attr-type="submit" :disabled="!text.trim()">Add the key</NButton><NButton size="small" @click="adding = false">Cancel</NButton></div>
    </form>
    <NButton v-else-if="mayChange" size="small" @click="adding = true">Add a key</NButton>
  </div>
</template>

<style scoped>
.key { display: flex; gap: 12px; justify-content: space-between; align-items: start; padding: 6px 0 10px; }
.key > :last-child { flex: none; }
form { display: grid; gap: 8px; }
p { margin: 0 0 8px; }
</style>
