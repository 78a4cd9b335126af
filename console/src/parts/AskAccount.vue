<script setup lang="ts">
import { NButton, NInput, NSelect, useMessage } from 'naive-ui'
import { reactive, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import TableFrame from './TableFrame.vue'

// May it, and why; and does it really: explained by the rules, tried on the wire.
const props = defineProps<{ account: string; mayChange: boolean }>()
const message = useMessage()
const question = reactive({ right: 'download', path: '/', from: '' })
const answer = ref<Schemas['Explanation'] | null>(null)
const rehearsal = ref<Schemas['Rehearsal'] | null>(null)
const onlyDiffering = ref(false)
const busy = ref(false)
const rights = ['list', 'download', 'upload', 'overwrite', 'rename', 'delete', 'mkdir', 'rmdir', 'touch', 'link'].map((r) => ({ label: r, value: r }))

async function run(ask: () => Promise<void>) {
  busy.value = true
  try {
    await ask()
  } catch (error) {
    message.error(sentence(error))
  } finally {
    busy.value = false
  }
}
const explain = () =>
  run(async () => {
    rehearsal.value = null
    const query = new URLSearchParams({ right: question.right, path: question.path })
    if (question.from) query.set('from', question.from)
    answer.value = await call('GET', `/accounts/${props.account}/explain?${query}`)
  })
const rehearse = () =>
  run(async () => {
    answer.value = null
    rehearsal.value = await call('POST', `/accounts/${props.account}/rehearsal`)
    onlyDiffering.value = !rehearsal.value?.agrees
  })
</script>

<template>
  <div>
    <h2>May it?</h2>
    <form class="ask" @submit.prevent="explain">
      <NSelect v-model:value="question.right" size="small" :options="rights" :input-props="{ 'aria-label': 'Right' }" />
      <NInput v-model:value="question.path" size="small" placeholder="/path" :input-props="{ 'aria-label': 'Path', name: 'path' }" />
      <NInput v-model:value="question.from" size="small" placeholder="from any address" :input-props="{ 'aria-label': 'Address', name: 'from' }" />
      <NButton size="small" attr-type="submit" :disabled="busy">Explain</NButton>
      <NButton v-if="mayChange" size="small" :loading="busy" @click="rehearse">Rehearse</NButton>
    </form>
    <template v-if="answer">
      <p :class="answer.allowed ? 'yes' : 'no'" role="status">{{ answer.allowed ? '✓ It may.' : '✕ It may not.' }}</p>
      <TableFrame label="Explanation">
        <tbody>
          <tr v-for="s in answer.steps" :key="s.step + s.say"><td>{{ s.step }}</td><td :class="s.ok ? 'yes' : 'no'">{{ s.ok ? '✓' : '✕ no' }}</td><td class="wrap">{{ s.say }}</td></tr>
        </tbody>
      </TableFrame>
    </template>
    <template v-if="rehearsal">
      <p :class="rehearsal.agrees ? 'yes' : 'no'" role="status">
        {{ rehearsal.agrees ? `✓ All ${rehearsal.tries.length} tries went as they should.` : `✕ ${rehearsal.tries.filter((t) => !t.agrees).length} of ${rehearsal.tries.length} tries did not go as they should.` }}
        <button class="plain" @click="onlyDiffering = !onlyDiffering">{{ onlyDiffering ? 'Show all' : 'Show only what differs' }}</button>
      </p>
      <TableFrame label="Rehearsal">
        <thead><tr><th>Over</th><th>Tries to</th><th>Path</th><th>Expected</th><th>Observed</th></tr></thead>
        <tbody>
          <tr v-for="(t, i) in rehearsal.tries.filter((t) => !onlyDiffering || !t.agrees)" :key="i" :title="t.why">
            <td>{{ t.listener }}</td><td>{{ t.does }}</td><td class="mono cut" :title="t.path">{{ t.path }}</td><td>{{ t.expected }}</td><td :class="t.agrees ? 'yes' : 'no'">{{ t.agrees ? '✓' : '✕' }} {{ t.observed }}</td>
          </tr>
        </tbody>
      </TableFrame>
    </template>
  </div>
</template>

<style scoped>
.ask { display: grid; grid-template-columns: repeat(auto-fit, minmax(104px, 1fr)); gap: 6px; }
p { margin: 10px 0 4px; font-weight: 600; }
p button { margin-left: 10px; }
.yes { color: var(--spruce); }
.no { color: var(--brick); }
.wrap { white-space: normal; }
td { padding: 4px 8px; }
td:first-child, th:first-child { padding-left: 0; }
</style>
