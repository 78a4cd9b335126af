<script setup lang="ts">
import { NButton, NInput, NSelect } from 'naive-ui'
import { reactive } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import { roles } from './account'

// Adds an operator.
defineProps<{ bare?: boolean }>()
const emit = defineEmits<{ added: []; cancel: [] }>()
const form = reactive({ operator: '', role: 'manager' as Schemas['Role'], password: '', wrong: '' })
async function add() {
  form.wrong = ''
  try {
    await call('POST', '/operators', { operator: form.operator, role: form.role, password: form.password } satisfies Schemas['OperatorNew'])
    Object.assign(form, { operator: '', password: '' })
    emit('added')
  } catch (error) {
    form.wrong = sentence(error)
  }
}
</script>

<template>
  <form class="fields" @submit.prevent="add">
    <label>Name<NInput placeholder="" v-model:value="form.operator" autofocus :input-props="{ name: 'newOperator', autocomplete: 'off' }" /></label>
    <label>Role<NSelect v-model:value="form.role" :options="roles" :input-props="{ 'aria-label': 'Role' }" /></label>
    <label>Password, to be changed by the operator<NInput placeholder="" v-model:value="form.password" type="password" show-password-on="click" :input-props="{ name: 'newPassword', autocomplete: 'new-password' }" /></label>
    <p v-if="form.wrong" class="wrong" role="alert">{{ form.wrong }}</p>
    <div class="row"><NButton type="primary" attr-type="submit" :disabled="!form.operator || !form.password">Add the operator</NButton><NButton v-if="!bare" @click="$emit('cancel')">Cancel</NButton></div>
  </form>
</template>
