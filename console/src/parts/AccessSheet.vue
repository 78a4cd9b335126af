<script setup lang="ts">
import { NButton, NInput, NInputNumber, NSelect, useMessage } from 'naive-ui'
import { computed, onMounted, reactive, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import { minute, zone } from '@/format'
import { useOperator } from '@/operator'
import ShownOnce from './ShownOnce.vue'
import TableFrame from './TableFrame.vue'

// Who can administer now: console sign-ins and API tokens. Owners see everybody's.
const props = defineProps<{ operators: Schemas['Operator'][] }>()
const message = useMessage()
const isOwner = useOperator().isOwner()
const open = ref<Schemas['Access'][]>([])
const making = ref(false)
const token = ref('')
const form = reactive({ operator: null as string | null, label: '', role: '' as NonNullable<Schemas['TokenNew']['role']>, days: 90, wrong: '' })
const names = computed(() => props.operators.map((o) => ({ label: `${o.operator}, ${o.role}`, value: o.operator })))
const roles = [{ label: "its operator's", value: '' }, { label: 'manager', value: 'manager' }, { label: 'auditor: reads only', value: 'auditor' }]

async function load() {
  try {
    open.value = (await call<Schemas['AccessPage']>('GET', '/access')).items
  } catch (error) {
    message.error(sentence(error))
  }
}
onMounted(load)

async function end(a: Schemas['Access']) {
  try {
    await call('DELETE', `/access/${a.id}`)
    message.success('Ended.')
  } catch (error) {
    message.error(sentence(error))
  }
  await load()
}
async function make() {
  form.wrong = ''
  try {
    token.value = (await call<Schemas['Token']>('POST', `/operators/${form.operator}/tokens`, { label: form.label, role: form.role, days: form.days } satisfies Schemas['TokenNew'])).token
    making.value = false
    await load()
  } catch (error) {
    form.wrong = sentence(error)
  }
}
</script>

<template>
  <div id="access" class="sheet">
    <header><h2>Open now</h2><span class="soft">console sign-ins and API tokens{{ isOwner ? ' of everybody' : ' of yours' }}</span><button v-if="isOwner && !making" class="plain" @click="making = true">Make a token</button></header>
    <ShownOnce v-if="token" say="The token" :secret="token" />
    <form v-if="making" class="fields" @submit.prevent="make">
      <label>Stands for<NSelect v-model:value="form.operator" placeholder="an operator" :options="names" :input-props="{ 'aria-label': 'Stands for' }" /></label>
      <label>What it is for<NInput placeholder="" v-model:value="form.label" :input-props="{ name: 'label' }" /></label>
      <label>Role<NSelect v-model:value="form.role" :options="roles" :input-props="{ 'aria-label': 'Role of the token' }" /></label>
      <label>Days<NInputNumber v-model:value="form.days" :min="1" :max="366" :show-button="false" :input-props="{ 'aria-label': 'Days' }" /></label>
      <p v-if="form.wrong" class="wrong" role="alert">{{ form.wrong }}</p>
      <div class="row"><NButton type="primary" attr-type="submit" :disabled="!form.operator">Make the token</NButton><NButton @click="making = false">Cancel</NButton></div>
    </form>
    <TableFrame label="Open now">
      <thead><tr><th>Operator</th><th>By</th><th>Role</th><th>From</th><th>Made, {{ zone }}</th><th>Ends</th><th>Last used</th><th><span class="soft">End it</span></th></tr></thead>
      <tbody>
        <tr v-for="a in open" :key="a.id">
          <td>{{ a.operator }}</td>
          <td>{{ a.kind }} {{ a.label }}{{ a.this ? ' (this one)' : '' }}</td>
          <td>{{ a.role }}</td>
          <td>{{ a.address }}</td>
          <td>{{ minute(a.created) }}</td>
          <td>{{ minute(a.expires) }}</td>
          <td>{{ minute(a.lastUsed) }}</td>
          <td><button v-if="!a.this" class="plain" :aria-label="`End ${a.kind} ${a.label} of ${a.operator}`" @click="end(a)">End</button></td>
        </tr>
      </tbody>
    </TableFrame>
  </div>
</template>
