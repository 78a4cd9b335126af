<script setup lang="ts">
import { NButton, NInput, useMessage } from 'naive-ui'
import { onMounted, reactive, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import { useOperator } from '@/operator'

// What the service is called, where clients reach it, and a backup of all it knows.
defineProps<{ mayChange: boolean; bare?: boolean }>()
const emit = defineEmits<{ saved: [] }>()
const message = useMessage()
const isOwner = useOperator().isOwner()
const form = reactive({ name: '', host: '' })
const wrong = ref('')

onMounted(async () => {
  try {
    Object.assign(form, await call<Schemas['Identity']>('GET', '/service'))
  } catch (error) {
    message.error(sentence(error))
  }
})
async function save() {
  wrong.value = ''
  try {
    Object.assign(form, await call<Schemas['Identity']>('PATCH', '/service', { ...form } satisfies Schemas['IdentityChange']))
    message.success('Saved.')
    emit('saved')
  } catch (error) {
    wrong.value = sentence(error)
  }
}
</script>

<template>
  <div id="identity" class="sheet">
    <header><h2>The service</h2><span class="soft">as it stands on hand-over sheets</span><a v-if="isOwner && !bare" class="backup" href="/api/v1/backup" download>Download a backup</a></header>
    <form class="form" @submit.prevent="save">
      <label>Name<NInput v-model:value="form.name" :disabled="!mayChange" placeholder="Urban Keep" :input-props="{ name: 'serviceName' }" /></label>
      <label>Host name or address that clients use<NInput v-model:value="form.host" :disabled="!mayChange" placeholder="files.example.org" :input-props="{ name: 'serviceHost', spellcheck: false }" /></label>
      <NButton v-if="mayChange" type="primary" attr-type="submit">Save both</NButton>
      <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
    </form>
  </div>
</template>

<style scoped>
.form { display: grid; grid-template-columns: repeat(auto-fit, minmax(200px, 1fr)); gap: 10px 14px; padding: 12px 14px; align-items: end; }
.form label { display: grid; gap: 4px; font-size: 13px; color: var(--soft); }
.wrong { grid-column: 1 / -1; }
.backup { margin-left: auto; }
</style>
