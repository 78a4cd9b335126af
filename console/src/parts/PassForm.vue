<script setup lang="ts">
import { NButton, NInput, NInputNumber, NSelect } from 'naive-ui'
import { reactive, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import ShownOnce from './ShownOnce.vue'

// Makes a pass of any account.
const emit = defineEmits<{ made: []; close: [] }>()
const form = reactive({ account: '', kind: 'fetch' as 'fetch' | 'drop', paths: '', days: 7, password: '', text: '', note: '', uses: 0, networks: '', asks: true, apart: false, shows: false })
const kinds = [{ label: 'to fetch files', value: 'fetch' }, { label: 'to leave files in a folder', value: 'drop' }]
const link = ref('')
const shut = ref('')
const wrong = ref('')
async function make() {
  wrong.value = ''
  try {
    const made = await call<Schemas['PassMade']>('POST', '/passes', {
      account: form.account,
      kind: form.kind,
      paths: form.paths.split('\n').map((line) => line.trim()).filter(Boolean),
      days: form.days,
      password: form.password,
      text: form.text,
      note: form.note,
      maxUses: form.uses,
      networks: form.networks.split(/[\s,]+/).filter(Boolean),
      ...(form.kind === 'drop' ? { asks: form.asks, apart: form.apart, shows: form.shows } : {}),
    } satisfies Schemas['PassNew'])
    shut.value = made.shut ?? ''
    link.value = made.link.startsWith('/') ? location.origin + made.link : made.link
    emit('made')
  } catch (error) {
    wrong.value = sentence(error)
  }
}
</script>

<template>
  <div v-if="link" class="fields"><ShownOnce say="The link" :secret="link" /><p v-if="shut" class="wrong" role="alert">But {{ shut }}.</p><div class="row"><NButton @click="$emit('close')">Done</NButton></div></div>
  <form v-else class="fields" @submit.prevent="make">
    <label>Account<NInput v-model:value="form.account" placeholder="" autofocus :input-props="{ name: 'pass-account', spellcheck: false, autocapitalize: 'none' }" /></label>
    <label>It is<NSelect v-model:value="form.kind" :options="kinds" :input-props="{ 'aria-label': 'It is' }" /></label>
    <label>{{ form.kind === 'fetch' ? 'Files and folders of its tree, one on each line' : 'The folder of its tree' }}<NInput v-model:value="form.paths" :type="form.kind === 'fetch' ? 'textarea' : 'text'" :rows="2" placeholder="" :input-props="{ name: 'paths', spellcheck: false }" /></label>
    <label>Days that it works<NInputNumber v-model:value="form.days" :min="0.01" :max="366" :input-props="{ name: 'days' }" /></label>
    <label>A password for it, if you like<NInput v-model:value="form.password" placeholder="" :input-props="{ name: 'pass-password', autocomplete: 'off', spellcheck: false }" /></label>
    <label>What whoever opens it reads<NInput v-model:value="form.text" type="textarea" :rows="2" placeholder="" :maxlength="1000" /></label>
    <label>Note, for the list<NInput v-model:value="form.note" placeholder="" :input-props="{ name: 'pass-note' }" /></label>
    <label>Uses; 0 is any number<NInputNumber v-model:value="form.uses" :min="0" :precision="0" /></label>
    <label>Networks from which it works; none is everywhere<NInput v-model:value="form.networks" placeholder="" :input-props="{ name: 'networks', spellcheck: false }" /></label>
    <template v-if="form.kind === 'drop'">
      <label class="tick"><input v-model="form.asks" type="checkbox" />ask for name, e-mail address and a message</label>
      <label class="tick"><input v-model="form.apart" type="checkbox" />a folder of its own for what each visitor leaves</label>
      <label class="tick"><input v-model="form.shows" type="checkbox" />visitors see, and may fetch, what is there</label>
    </template>
    <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
    <div class="row"><NButton type="primary" attr-type="submit" :disabled="!form.account || !form.paths.trim()">Make the pass</NButton><NButton @click="$emit('close')">Cancel</NButton></div>
  </form>
</template>

<style scoped>
.fields .tick { display: flex; gap: 8px; align-items: center; color: var(--ink); }
</style>
