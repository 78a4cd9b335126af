<script setup lang="ts">
import { computed, ref } from 'vue'
import { call, leaveFor, Refusal, type Codes, type Holder, type SSO } from './calls'
import { enterByPasskey, passkeysWork, stopped } from './passkey'

const props = defineProps<{ banner: string; sso: SSO[]; refused: string }>()
const emit = defineEmits<{ in: [holder: Holder] }>()
const account = ref('')
const password = ref('')
const next = ref('')
const again = ref('')
const code = ref('')
const first = ref<Codes | null>(null)
const step = ref<'password' | 'must-change' | 'code' | 'first-codes'>('password')
const asks = ref('')
const wrong = ref(props.refused)
const busy = ref(false)
const withPasskey = ref(false)

async function enter() {
  busy.value = true
  wrong.value = ''
  try {
    if (withPasskey.value) return emit('in', await enterByPasskey(code.value))
    if (step.value === 'must-change') {
      if (next.value !== again.value) throw new Refusal(0, 'the two are not the same: type the new password twice')
      await call('POST', '/password', { account: account.value, now: password.value, next: next.value, ...(code.value && { code: code.value }) })
      password.value = next.value
      code.value = ''
      step.value = 'password'
    }
    emit('in', await call<Holder>('POST', '/sign-in', { account: account.value, password: password.value, ...(code.value && { code: code.value }), ...(first.value && { secret: first.value.secret }) }))
  } catch (error) {
    const reason = error instanceof Refusal ? error.reason : ''
    if (reason === 'must-change') step.value = 'must-change'
    else if (reason === 'code-needed') {
      asks.value = (error as Error).message
      if (step.value !== 'must-change') step.value = 'code'
    }
    else if (reason === 'code-unset' && step.value !== 'first-codes') await begin()
    else wrong.value = (error as Error).message
    code.value = ''
  } finally {
    busy.value = false
  }
}
async function byPasskey() {
  wrong.value = ''
  try {
    emit('in', await enterByPasskey(''))
  } catch (error) {
    if (error instanceof Refusal && error.reason === 'code-needed') {
      asks.value = error.message
      withPasskey.value = true
      step.value = 'code'
    } else if (!stopped(error)) wrong.value = (error as Error).message
  }
}
async function leave(source: string) {
  busy.value = true
  wrong.value = ''
  try {
    await leaveFor(source)
  } catch (error) {
    wrong.value = (error as Error).message
  } finally {
    busy.value = false
  }
}
async function begin() {
  try {
    first.value = await call<Codes>('POST', '/codes', { account: account.value, password: password.value })
    step.value = 'first-codes'
  } catch (error) {
    wrong.value = (error as Error).message
  }
}
const title = computed(() => ({ password: 'Sign in to your files', 'must-change': 'Choose your own password', code: 'One-time code', 'first-codes': 'Set up one-time codes' })[step.value])
const ready = computed(() => withPasskey.value ? code.value : account.value && password.value && (step.value !== 'must-change' || next.value) && (step.value === 'password' || step.value === 'must-change' || code.value))
</script>

<template>
  <form @submit.prevent="enter">
    <p v-if="banner && step === 'password'" class="banner">{{ banner }}</p>
    <h1>{{ title }}</h1>
    <template v-if="step === 'password'">
      <label>Account<input v-model="account" name="account" autocomplete="username" autofocus spellcheck="false" autocapitalize="none" /></label>
      <label>Password<input v-model="password" name="password" type="password" autocomplete="current-password" /></label>
    </template>
    <template v-else-if="step === 'must-change'">
      <p>The password that you were given works once. Choose one that only you know, of at least 10 characters.</p>
      <label>The new password<input v-model="next" name="next" type="password" autocomplete="new-password" autofocus /></label>
      <label>The new password once more<input v-model="again" name="again" type="password" autocomplete="new-password" /></label>
      <template v-if="asks">
        <p>{{ asks }}</p>
        <label>The code<input v-model="code" name="code" autocomplete="one-time-code" spellcheck="false" /></label>
      </template>
    </template>
    <template v-else>
      <template v-if="first">
        <p>This account signs in with a one-time code as well. Read the picture with an authenticator app, or type the secret into it.</p>
        <img :src="'data:image/png;base64,' + first.picture" alt="The secret, for the camera of an authenticator" width="220" height="220" />
        <code>{{ first.secret }}</code>
      </template>
      <p v-if="asks && !first">{{ asks }}</p>
      <label>{{ first ? 'The code that it shows now' : 'The code' }}<input v-model="code" name="code" autocomplete="one-time-code" inputmode="text" autofocus spellcheck="false" /></label>
    </template>
    <p class="wrong" role="alert">{{ wrong }}</p>
    <div class="ways"><button class="first" :disabled="busy || !ready">{{ step === 'must-change' ? 'Use it and sign in' : 'Sign in' }}</button><button v-if="step === 'password' && passkeysWork()" type="button" @click="byPasskey">Use a passkey</button></div>
    <div v-if="step === 'password' && sso.length" class="ways"><button v-for="one in sso" :key="one.source" type="button" :disabled="busy" @click="leave(one.source)">Sign in with {{ one.label }}</button></div>
  </form>
</template>

<style scoped>
form { display: grid; gap: 14px; max-width: 400px; padding-top: 8vh; }
form p { margin: 0; }
.ways { display: flex; flex-wrap: wrap; gap: 12px; }
.banner { white-space: pre-line; border-left: 3px solid var(--copper); padding: 4px 12px; }
code { overflow-wrap: anywhere; }
</style>
