<script setup lang="ts">
import { NButton, useMessage } from 'naive-ui'
import { computed, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import DrawerFrame from './DrawerFrame.vue'
import TableFrame from './TableFrame.vue'

// Adds and changes accounts by a CSV table, all or none: what each line would do is shown before.
const emit = defineEmits<{ close: []; changed: [] }>()
const message = useMessage()
type Line = Schemas['RosterPage']['items'][number]
const name = ref('')
const csv = ref('')
const lines = ref<Line[]>([])
const done = ref(false)
const wrong = ref('')
const busy = ref(false)
const refused = computed(() => lines.value.filter((l) => l.does === 'refused').length)
const some = computed(() => lines.value.filter((l) => l.does === 'add' || l.does === 'change').length)

const many = (n: number) => `${n.toLocaleString('en')} ${n === 1 ? 'account' : 'accounts'}`

async function ask(dry: boolean) {
  busy.value = true
  wrong.value = ''
  try {
    lines.value = (await call<Schemas['RosterPage']>('POST', '/account-roster', { csv: csv.value, dry } satisfies Schemas['Roster'])).items
    if (!dry) {
      done.value = true
      message.success(`Added or changed: ${many(some.value)}.`)
      emit('changed')
    }
  } catch (error) {
    wrong.value = sentence(error)
  }
  busy.value = false
}
async function pick(event: Event) {
  const file = (event.target as HTMLInputElement).files?.[0]
  if (!file) return
  name.value = file.name
  csv.value = await file.text()
  lines.value = []
  done.value = false
  await ask(true)
}
</script>

<template>
  <DrawerFrame title="Import accounts" @close="emit('close')">
    <p class="soft">A CSV table as the export gives it: its first line names the columns, <code>account</code> among them. All lines are taken, or none.</p>
    <label>Table<input type="file" accept=".csv,text/csv" name="roster" @change="pick" /></label>
    <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
    <template v-if="lines.length">
      <TableFrame :label="name">
        <thead><tr><th class="number">Line</th><th>Account</th><th>{{ done ? 'Was' : 'Will be' }}</th><th>What changes</th></tr></thead>
        <tbody>
          <tr v-for="l in lines" :key="l.line">
            <td class="number">{{ l.line }}</td>
            <td>{{ l.account }}</td>
            <td :class="{ wrong: l.does === 'refused' }">{{ { add: 'added', change: 'changed', nothing: 'left as it is', refused: 'refused' }[l.does] }}</td>
            <td class="what">{{ l.say ?? l.changes.join('; ') }}<template v-if="l.password"> password <code>{{ l.password }}</code></template></td>
          </tr>
        </tbody>
      </TableFrame>
      <p v-if="done && lines.some((l) => l.password)" class="soft">The passwords are shown this once.</p>
      <div v-if="!done" class="row">
        <NButton type="primary" :disabled="!some || refused > 0" :loading="busy" @click="ask(false)">{{ some ? `Add and change ${many(some)}` : 'Nothing would change' }}</NButton>
        <span v-if="refused" class="soft">correct what is refused, and choose the table again</span>
      </div>
    </template>
  </DrawerFrame>
</template>

<style scoped>
.what { white-space: normal; min-width: 180px; }
</style>
