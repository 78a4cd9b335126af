<script setup lang="ts">
import { ref } from 'vue'
import { call, Refusal, type Holder } from './calls'

const emit = defineEmits<{ in: [holder: Holder] }>()
const account = ref('')
const password = ref('')
const next = ref('')
const again = ref('')
const mustChange = ref(false)
const wrong = ref('')
const busy = ref(false)

async function enter() {
  busy.value = true
  wrong.value = ''
  try {
    if (mustChange.value) {
      if (next.value !== again.value) throw new Refusal(0, 'the two are not the same: type the new password twice')
      await call('POST', '/password', { account: account.value, now: password.value, next: next.value })
      password.value = next.value
      mustChange.value = false
    }
    emit('in', await call<Holder>('POST', '/sign-in', { account: account.value, password: password.value }))
  } catch (error) {
    if (error instanceof Refusal && error.reason === 'must-change') mustChange.value = true
    else wrong.value = (error as Error).message
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <form @submit.prevent="enter">
    <h1>{{ mustChange ? 'Choose your own password' : 'Sign in to your files' }}</h1>
    <template v-if="!mustChange">
      <label>Account<input v-model="account" name="account" autocomplete="username" autofocus spellcheck="false" autocapitalize="none" /></label>
      <label>Password<input v-model="password" name="password" type="password" autocomplete="current-password" /></label>
    </template>
    <template v-else>
      <p>The password that you were given works once. Choose one that only you know, of at least 10 characters.</p>
      <label>The new password<input v-model="next" name="next" type="password" autocomplete="new-password" autofocus /></label>
      <label>The new password once more<input v-model="again" name="again" type="password" autocomplete="new-password" /></label>
    </template>
    <p class="wrong" role="alert">{{ wrong }}</p>
    <button class="first" :disabled="busy || !account || !password || (mustChange && !next)">{{ mustChange ? 'Use it and sign in' : 'Sign in' }}</button>
  </form>
</template>

<style scoped>
form { display: grid; gap: 14px; max-width: 400px; padding-top: 8vh; }
form p { margin: 0; }
form button { justify-self: start; }
</style>
