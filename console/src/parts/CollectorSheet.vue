<script setup lang="ts">
import { NButton, NInput, useMessage } from 'naive-ui'
import { onMounted, onUnmounted, reactive, ref } from 'vue'
import { call, Problem, sentence, type Schemas } from '@/api/client'
import { minute, zone } from '@/format'

// Where audit records are sent as syslog messages, and how that does.
defineProps<{ mayChange: boolean }>()
const message = useMessage()
const state = ref<Schemas['CollectorState']>({ address: '', trust: '', connected: false, sent: 0, waiting: 0, trouble: '', since: '' })
const loaded = ref(false)
const changing = ref(false)
const form = reactive({ address: '', trust: '' })
const wrong = ref('')
let timer = 0

async function load() {
  try {
    state.value = await call<Schemas['CollectorState']>('GET', '/collector')
    loaded.value = true
  } catch (error) {
    message.error(sentence(error))
  }
}
onMounted(async () => {
  await load()
  timer = window.setInterval(() => state.value.address && void load(), 5000)
})
onUnmounted(() => window.clearInterval(timer))

function change() {
  form.address = state.value.address
  form.trust = state.value.trust
  wrong.value = ''
  changing.value = true
}

async function save(address: string) {
  try {
    state.value = await call<Schemas['CollectorState']>('PUT', '/collector', { address, trust: address.startsWith('tls:') ? form.trust : '' })
    changing.value = false
  } catch (error) {
    wrong.value = sentence(error)
    if (!(error instanceof Problem)) throw error
  }
}
</script>

<template>
  <div v-if="loaded" id="collector" class="sheet">
    <header><h2>Syslog collector</h2><span class="soft">gets every audit record (RFC 5424)</span><button v-if="mayChange && !changing" class="plain" @click="change">Change</button></header>
    <form v-if="changing" class="fields" @submit.prevent="save(form.address)">
      <label>Address<NInput v-model:value="form.address" placeholder="tls://collector.example:6514" :input-props="{ name: 'collector', 'aria-label': 'Address of the collector', spellcheck: false }" /></label>
      <label v-if="form.address.startsWith('tls:')">Authority that signed its certificate (PEM); empty for those of this system
        <NInput v-model:value="form.trust" placeholder="" type="textarea" :rows="4" :input-props="{ 'aria-label': 'Authority', spellcheck: false }" />
      </label>
      <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
      <div class="row">
        <NButton type="primary" attr-type="submit">Save</NButton><NButton @click="changing = false">Leave it</NButton>
        <NButton v-if="state.address" @click="save('')">Send nowhere</NButton>
      </div>
    </form>
    <p v-else-if="!state.address" class="none">Records are sent nowhere.</p>
    <dl v-else>
      <dt>Address</dt><dd>{{ state.address }}</dd>
      <dt>State</dt><dd :class="{ warn: state.trouble }">{{ state.connected ? '● connected' : state.trouble ? `▲ waiting: ${state.trouble}` : '○ connecting' }}, since {{ minute(state.since) }} {{ zone }}</dd>
      <dt>Delivered</dt><dd>up to record {{ state.sent }}; {{ state.waiting }} behind it</dd>
    </dl>
  </div>
</template>

<style scoped>
.warn { color: var(--copper); }
dl { display: grid; grid-template-columns: 110px 1fr; gap: 4px 12px; margin: 0; padding: 10px 14px; }
dt { color: var(--soft); }
dd { margin: 0; overflow-wrap: anywhere; }
</style>
