<script setup lang="ts">
import { NButton, NInput, useMessage } from 'naive-ui'
import { computed, onMounted, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import { minute, size, zone } from '@/format'
import TableFrame from './TableFrame.vue'

// How long audit records stay, and the archive files that others were sealed into.
defineProps<{ mayChange: boolean }>()
const message = useMessage()
const keeps = ref<Schemas['Retention'] | null>(null)
const archives = ref<Schemas['Archive'][]>([])
const changing = ref(false)
const days = ref('')
const kinds = ref('')
const wrong = ref('')

async function load() {
  try {
    keeps.value = await call<Schemas['Retention']>('GET', '/audit/retention')
    archives.value = (await call<Schemas['ArchivePage']>('GET', '/audit/archives')).items
  } catch (error) {
    message.error(sentence(error))
  }
}
onMounted(load)

const say = (n: number) => (n ? `${n} days` : 'for ever')
const told = computed(() => {
  const k = keeps.value
  if (!k) return ''
  return [...k.kinds.map((one) => `${one.actions.join(', ')}: ${say(one.days)}`), `${k.kinds.length ? 'everything else' : 'Everything'} stays ${say(k.days)}`].join('; ')
})

function change() {
  days.value = keeps.value?.days ? String(keeps.value.days) : ''
  kinds.value = keeps.value?.kinds.map((k) => `${k.actions.join(',')}=${k.days || 'ever'}`).join('\n') ?? ''
  wrong.value = ''
  changing.value = true
}

async function save() {
  const parsed = kinds.value.split('\n').filter((line) => line.trim()).map((line) => {
    const [names = '', n = ''] = line.split('=')
    return { actions: names.split(',').map((a) => a.trim()), days: n.trim() === 'ever' ? 0 : Number(n) }
  })
  if (parsed.some((k) => !Number.isInteger(k.days)) || !Number.isInteger(Number(days.value))) {
    wrong.value = 'Days are whole numbers; a kind is one line as in list,sign-out=30.'
    return
  }
  try {
    keeps.value = await call<Schemas['Retention']>('PUT', '/audit/retention', { days: Number(days.value), kinds: parsed })
    changing.value = false
  } catch (error) {
    wrong.value = sentence(error)
  }
}

async function seal() {
  try {
    const made = await call<Schemas['ArchivePage']>('POST', '/audit/archives')
    message.success(made.items.length ? `${made.items.reduce((sum, a) => sum + a.records, 0)} records were sealed.` : 'No record has stayed long enough.')
    await load()
  } catch (error) {
    message.error(sentence(error))
  }
}
</script>

<template>
  <div v-if="keeps" id="retention" class="sheet">
    <header>
      <h2>Retention of audit records</h2><span class="soft">{{ told }}</span>
      <button v-if="mayChange && !changing" class="plain" @click="change">Change</button><button v-if="mayChange" class="plain" @click="seal">Seal now</button>
    </header>
    <form v-if="changing" class="fields" @submit.prevent="save">
      <label>Days; empty for ever<NInput v-model:value="days" placeholder="for ever" :input-props="{ name: 'days', 'aria-label': 'Days' }" /></label>
      <label>Others for some actions, one line each, as in list,sign-out=30 or account-set=ever
        <NInput v-model:value="kinds" placeholder="" type="textarea" :rows="3" :input-props="{ 'aria-label': 'Kinds', spellcheck: false }" />
      </label>
      <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
      <div class="row"><NButton type="primary" attr-type="submit">Save</NButton><NButton @click="changing = false">Leave it</NButton></div>
    </form>
    <TableFrame v-if="archives.length" label="Archives">
      <thead><tr><th>Archive</th><th>Made ({{ zone }})</th><th class="number">Records</th><th>Of the trail</th><th class="number">File</th></tr></thead>
      <tbody>
        <tr v-for="a in archives" :key="a.name">
          <td class="mono"><a v-if="a.bytes" :href="`/api/v1/audit/archives/${a.name}?format=csv`" :download="`${a.name}.csv`">{{ a.name }}</a><template v-else>{{ a.name }}</template></td>
          <td>{{ minute(a.created) }}</td>
          <td class="number">{{ a.records }}</td>
          <td>{{ a.first }} to {{ a.last }}</td>
          <td class="number">{{ a.bytes ? size(a.bytes) : 'not there' }}</td>
        </tr>
      </tbody>
    </TableFrame>
    <p v-else class="none">No record was sealed into an archive yet.</p>
  </div>
</template>

