<script setup lang="ts">
import { ref, watch } from 'vue'
import { call } from './calls'

const now = ref('')
const next = ref('')
const again = ref('')
const strength = ref<{ score: number; say: string } | null>(null)
const wrong = ref('')
const said = ref('')
let timer = 0
watch(next, () => {
  clearTimeout(timer)
  strength.value = null
  if (next.value) timer = window.setTimeout(async () => (strength.value = await call<{ score: number; say: string }>('POST', '/account/strength', { now: '', next: next.value }).catch(() => null)), 250)
})
async function change() {
  wrong.value = said.value = ''
  if (next.value !== again.value) {
    wrong.value = 'The two are not the same: type the new password twice.'
    return
  }
  try {
    await call('POST', '/account/password', { now: now.value, next: next.value })
    now.value = next.value = again.value = ''
    said.value = 'It is changed. You are signed out everywhere else.'
  } catch (error) {
    wrong.value = (error as Error).message
  }
}
</script>

<template>
  <section class="sheet card" aria-labelledby="password">
    <h2 id="password">Password</h2>
    <form @submit.prevent="change">
      <label>The one you have<input v-model="now" name="now" type="password" autocomplete="current-password" /></label>
      <label>The new one<input v-model="next" name="new" type="password" autocomplete="new-password" aria-describedby="strength" /></label>
      <label>The new one again<input v-model="again" name="new-again" type="password" autocomplete="new-password" /></label>
      <button class="first" :disabled="!now || !next || !again">Change it</button>
    </form>
    <p id="strength" class="soft"><meter v-if="strength" min="0" max="4" :value="strength.score" aria-label="How hard it is to guess" /> {{ strength?.say }}</p>
    <p class="wrong" role="alert">{{ wrong }}</p>
    <p role="status">{{ said }}</p>
  </section>
</template>

<style scoped>
.card { padding: 14px 16px; display: grid; gap: 8px; }
.card h2 { font-size: 17px; }
form { display: flex; flex-wrap: wrap; gap: 12px; align-items: end; }
form label { flex: 1 1 180px; }
p { margin: 0; }
p:empty { display: none; }
</style>
