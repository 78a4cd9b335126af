<script setup lang="ts">
import { NButton, NPopconfirm, NSelect, useMessage } from 'naive-ui'
import { onMounted, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import { minute, zone } from '@/format'
import { useOperator } from '@/operator'
import { roles } from '@/parts/account'
import AccessSheet from '@/parts/AccessSheet.vue'
import OperatorForm from '@/parts/OperatorForm.vue'
import OwnSignIn from '@/parts/OwnSignIn.vue'
import TableFrame from '@/parts/TableFrame.vue'

const message = useMessage()
const operator = useOperator()
const isOwner = operator.isOwner()
const operators = ref<Schemas['Operator'][]>([])
const adding = ref(false)

async function load() {
  try {
    operators.value = (await call<Schemas['OperatorPage']>('GET', '/operators')).items
  } catch (error) {
    message.error(sentence(error))
  }
}
onMounted(load)

async function added() {
  adding.value = false
  await load()
}
async function act(say: string, method: string, name: string, change?: Schemas['OperatorChange']) {
  try {
    await call(method, `/operators/${name}`, change)
    message.success(say)
  } catch (error) {
    message.error(sentence(error))
  }
  await load()
}
</script>

<template>
  <section class="page">
    <div class="head"><h1>Operators</h1><span class="soft">an owner may do everything, a manager all but this page, an auditor reads</span><NButton v-if="isOwner && !adding" type="primary" @click="adding = true">Add an operator</NButton></div>
    <div class="sheet">
      <OperatorForm v-if="adding" @added="added" @cancel="adding = false" />
      <TableFrame label="Operators">
        <thead><tr><th>Operator</th><th>Role</th><th>Source</th><th>One-time codes</th><th>Last sign-in, {{ zone }}</th><th>Since</th><th><span class="soft">Change</span></th></tr></thead>
        <tbody>
          <tr v-for="o in operators" :key="o.operator">
            <td>{{ o.operator }}</td>
            <td>
              <NSelect v-if="isOwner && o.source === 'own'" class="role" size="small" :value="o.role" :options="roles" :input-props="{ 'aria-label': `Role of ${o.operator}` }" @update:value="(role: Schemas['Role']) => act(`${o.operator} is ${role} now.`, 'PATCH', o.operator, { role })" />
              <template v-else>{{ o.role }}</template>
            </td>
            <td>{{ o.source }}</td>
            <td>{{ o.codes ? 'asked for' : 'not asked for' }}</td>
            <td>{{ minute(o.lastSignIn) }}</td>
            <td>{{ minute(o.created) }}</td>
            <td class="deeds">
              <NPopconfirm v-if="isOwner && o.codes && o.operator !== operator.me?.operator" @positive-click="act(`${o.operator} signs in by password alone now.`, 'PATCH', o.operator, { codes: false })">
                <template #trigger><button class="plain">Codes off</button></template>
                For who has lost device and recovery codes: the password alone will do.
              </NPopconfirm>
              <NPopconfirm v-if="isOwner" @positive-click="act(`${o.operator} was removed.`, 'DELETE', o.operator)">
                <template #trigger><button class="plain" :aria-label="`Remove ${o.operator}`">Remove</button></template>
                Its sign-ins and tokens end. What it did stays in the audit trail.
              </NPopconfirm>
            </td>
          </tr>
        </tbody>
      </TableFrame>
    </div>
    <OwnSignIn @changed="load" />
    <AccessSheet :operators="operators" />
  </section>
</template>

<style scoped>
.role { width: 130px; }
td { vertical-align: middle; }
.deeds button + button { margin-left: 14px; }
</style>
