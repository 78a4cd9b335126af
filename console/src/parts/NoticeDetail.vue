<script setup lang="ts">
import { NButton, NPopconfirm, useMessage } from 'naive-ui'
import { onMounted, onUnmounted, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import { minute, visible, zone } from '@/format'
import DrawerFrame from './DrawerFrame.vue'
import NoticeForm from './NoticeForm.vue'
import TableFrame from './TableFrame.vue'
import { filtersOf } from './notice'

// One notice, with what it told.
const props = defineProps<{ notice: Schemas['Notice']; receivers: Schemas['Receiver'][]; events: Schemas['NoticeEvent'][]; mayChange: boolean }>()
const emit = defineEmits<{ changed: []; close: [] }>()
const message = useMessage()
const told = ref<Schemas['Told'][]>([])
const next = ref('')
const changing = ref(false)
const tried = ref<Schemas['ReceiverAnswer'][]>([])
const busy = ref(false)

async function load(more = false) {
  try {
    const page = await call<Schemas['ToldPage']>('GET', '/told?' + new URLSearchParams({ notice: props.notice.name, limit: '50', after: more ? next.value : '' }))
    told.value = more ? [...told.value, ...page.items] : page.items
    next.value = page.next ?? ''
  } catch (error) {
    message.error(sentence(error))
  }
}
let timer = 0
onMounted(() => {
  void load()
  timer = window.setInterval(() => told.value.length <= 50 && void load(), 3000) // more than the newest are not shown anew
})
onUnmounted(() => window.clearInterval(timer))
async function test() {
  busy.value = true
  try {
    tried.value = (await call<Schemas['ReceiverAnswerPage']>('POST', `/notices/${props.notice.name}/test`, {})).items
  } catch (error) {
    message.error(sentence(error))
  } finally {
    busy.value = false
  }
}
async function change(what: Schemas['NoticeChange']) {
  try {
    await call('PATCH', `/notices/${props.notice.name}`, what)
    emit('changed')
  } catch (error) {
    message.error(sentence(error))
  }
}
async function remove() {
  try {
    await call('DELETE', `/notices/${props.notice.name}`)
    emit('changed')
    emit('close')
  } catch (error) {
    message.error(sentence(error))
  }
}
function saved() {
  changing.value = false
  emit('changed')
}
const states = { told: '● told', aside: '▲ set aside', again: '○ to be retried' } as const
</script>

<template>
  <DrawerFrame :title="`Notice ${notice.name}`" @close="$emit('close')">
    <NoticeForm v-if="changing" :notice="notice" :receivers="receivers" :events="events" @saved="saved" @close="changing = false" />
    <template v-else>
      <dl>
        <dt>When</dt><dd>{{ notice.events.join(', ') }}</dd>
        <dt>Only</dt><dd>{{ visible(filtersOf(notice)) || 'nothing narrows it' }}</dd>
        <dt>Tells</dt><dd>{{ notice.receivers.join(', ') }}</dd>
        <dt>State</dt><dd>{{ notice.off ? '○ off' : '● on' }}</dd>
        <template v-if="notice.note"><dt>Note</dt><dd>{{ notice.note }}</dd></template>
      </dl>
      <div v-if="mayChange" class="row">
        <NButton :loading="busy" @click="test">Tell a sample</NButton>
        <NButton @click="changing = true">Change</NButton>
        <NButton @click="change({ off: !notice.off })">{{ notice.off ? 'Turn on' : 'Turn off' }}</NButton>
        <NPopconfirm @positive-click="remove"><template #trigger><NButton>Remove</NButton></template>Nobody is told about this any more.</NPopconfirm>
      </div>
      <ul v-if="tried.length" class="tried" role="status"><li v-for="a in tried" :key="a.receiver" :class="{ wrong: a.error }">{{ a.receiver }}: {{ a.error ? `▲ ${a.error}` : `● ${a.said}` }}</li></ul>
    </template>
    <section>
      <h2>What it told</h2>
      <TableFrame label="What it told">
        <thead><tr><th>{{ zone }}</th><th>Receiver</th><th>Event</th><th>About</th><th>State</th><th class="number">Tries</th><th>Answer</th></tr></thead>
        <tbody>
          <tr v-for="t in told" :key="t.id"><td>{{ minute(t.at) }}</td><td>{{ t.receiver }}</td><td>{{ t.event }}</td><td class="path" :title="visible(t.about)">{{ visible(t.about) }}</td><td :class="{ warn: t.state === 'aside' }">{{ states[t.state] }}</td><td class="number">{{ t.tries }}</td><td class="cut" :title="t.answer">{{ t.answer }}</td></tr>
        </tbody>
      </TableFrame>
      <p v-if="!told.length" class="none">It has told nothing yet.</p>
      <p v-if="next" class="none"><button class="plain" @click="load(true)">Show more</button></p>
    </section>
  </DrawerFrame>
</template>

<style scoped>
dl { display: grid; grid-template-columns: 70px 1fr; gap: 4px 12px; margin: 0; }
dt { color: var(--soft); }
dd { margin: 0; overflow-wrap: anywhere; }
td.path { max-width: 240px; }
.tried { margin: 0; padding: 0; list-style: none; overflow-wrap: anywhere; }
.warn { color: var(--copper); }
</style>
