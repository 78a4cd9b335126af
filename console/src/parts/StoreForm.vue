<script setup lang="ts">
import { NButton, NInput } from 'naive-ui'
import { reactive } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'

// Makes a folder of the machine a store.
const emit = defineEmits<{ added: [] }>()
const form = reactive({ name: '', folder: '', wrong: '' })
async function add() {
  form.wrong = ''
  try {
    await call('POST', '/stores', { name: form.name, folder: form.folder } satisfies Schemas['StoreNew'])
    Object.assign(form, { name: '', folder: '' })
    emit('added')
  } catch (error) {
    form.wrong = sentence(error)
  }
}
</script>

<template>
  <form class="add" @submit.prevent="add">
    <NInput v-model:value="form.name" size="small" placeholder="name" :input-props="{ 'aria-label': 'Name of the store', name: 'store' }" />
    <NInput v-model:value="form.folder" size="small" placeholder="/srv/…" :input-props="{ 'aria-label': 'Folder of the machine', name: 'folder' }" />
    <NButton size="small" attr-type="submit" :disabled="!form.name || !form.folder">Add a store</NButton>
    <span class="wrong" role="alert">{{ form.wrong }}</span>
  </form>
</template>

<style scoped>
.add { display: flex; flex-wrap: wrap; gap: 8px; align-items: center; padding: 10px 14px; border-top: 1px solid var(--line); }
.wrong { color: var(--brick); }
</style>
