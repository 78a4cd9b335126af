<script setup lang="ts">
import { NButton, NInput, NInputNumber, NSelect, useMessage } from 'naive-ui'
import { onMounted, reactive, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'

// Where mail is handed in.
defineProps<{ mayChange: boolean }>()
const message = useMessage()
const server = ref<Schemas['MailServer']>()
const changing = ref(false)
const form = reactive({ host: '', port: 0, security: 'starttls', user: '', password: '', from: '', trust: '' })
const wrong = ref('')
const test = ref('')
const ways = [{ label: 'STARTTLS', value: 'starttls' }, { label: 'TLS from the first byte', value: 'tls' }, { label: 'not at all', value: 'none' }]
onMounted(async () => {
  try {
    server.value = await call<Schemas['MailServer']>('GET', '/mail')
  } catch (error) {
    message.error(sentence(error))
  }
})
function change() {
  const s = server.value
  if (!s) return
  Object.assign(form, { host: s.host, port: s.port, security: s.security || 'starttls', user: s.user ?? '', password: '', from: s.from, trust: s.trust ?? '' })
  wrong.value = ''
  changing.value = true
}
async function save(host: string) {
  wrong.value = ''
  try {
    const ask = host ? { ...form, host, security: form.security as 'tls', ...(form.password || !server.value?.passwordSet ? {} : { password: undefined }) } : { host: '' }
    server.value = await call<Schemas['MailServer']>('PUT', '/mail', ask)
    changing.value = false
  } catch (error) {
    wrong.value = sentence(error)
  }
}
async function tryIt() {
  try {
    message.success((await call<Schemas['MailTested']>('POST', '/mail/test', { to: test.value })).said)
  } catch (error) {
    message.error(sentence(error), { duration: 8000 })
  }
}
</script>

<template>
  <div v-if="server" id="mail" class="sheet">
    <header><h2>Mail server</h2><span class="soft">takes the mail of notices</span><button v-if="mayChange && !changing" class="plain" @click="change">Change</button></header>
    <form v-if="changing" class="fields" @submit.prevent="save(form.host.trim())">
      <label>Host name<NInput v-model:value="form.host" placeholder="mail.example.org" :input-props="{ name: 'mail-host', spellcheck: false }" /></label>
      <label>Port; 0 is the usual one<NInputNumber v-model:value="form.port" :min="0" :max="65535" :precision="0" :input-props="{ name: 'mail-port' }" /></label>
      <label>Protected by<NSelect v-model:value="form.security" :options="ways" :input-props="{ 'aria-label': 'Protected by' }" /></label>
      <label>From<NInput v-model:value="form.from" placeholder="Files <files@example.org>" :input-props="{ name: 'mail-from', spellcheck: false }" /></label>
      <label>Sign in as; empty for no sign-in<NInput v-model:value="form.user" placeholder="" :input-props="{ name: 'mail-user', autocomplete: 'off', spellcheck: false }" /></label>
      <label v-if="form.user">Password{{ server.passwordSet ? '; empty for the one that is kept' : '' }}<NInput v-model:value="form.password" type="password" placeholder="" :input-props="{ name: 'mail-password', autocomplete: 'new-password' }" /></label>
      <label>Authority that signed its certificate (PEM); empty for those of this system<NInput v-model:value="form.trust" type="textarea" :rows="2" placeholder="" :input-props="{ name: 'mail-trust', spellcheck: false }" /></label>
      <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
      <div class="row"><NButton type="primary" attr-type="submit" :disabled="!form.host.trim()">Save</NButton><NButton @click="changing = false">Leave it</NButton><NButton v-if="server.host" @click="save('')">Send no mail</NButton></div>
    </form>
    <p v-else-if="!server.host" class="none">Mail is handed in nowhere.</p>
    <template v-else>
      <dl>
        <dt>Server</dt><dd>{{ server.host }}:{{ server.port }}, {{ server.security }}{{ server.user ? `, as ${server.user}` : '' }}</dd>
        <dt>From</dt><dd>{{ server.from }}</dd>
      </dl>
      <form v-if="mayChange" class="try" @submit.prevent="tryIt"><label>Send a test to <NInput v-model:value="test" size="small" placeholder="" :input-props="{ name: 'mail-test', spellcheck: false }" /></label><NButton size="small" attr-type="submit" :disabled="!test">Send</NButton></form>
    </template>
  </div>
</template>

<style scoped>
dl { display: grid; grid-template-columns: 110px 1fr; gap: 4px 12px; margin: 0; padding: 10px 14px; }
dt { color: var(--soft); }
dd { margin: 0; overflow-wrap: anywhere; }
.try { display: flex; gap: 8px; align-items: end; padding: 0 14px 12px; }
.try label { color: var(--soft); font-size: 13px; }
</style>
