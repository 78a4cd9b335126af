<script setup lang="ts">
import { ref } from 'vue'
import { call, type Codes } from './calls'
import RecoveryCodes from './RecoveryCodes.vue'

defineProps<{ on: boolean; required: boolean; left: number }>()
const emit = defineEmits<{ changed: [] }>()
const codes = ref<Codes | null>(null)
const recovery = ref<string[]>([])
const now = ref('')
const code = ref('')
const off = ref(false)
const wrong = ref('')
async function act(what: () => Promise<void>) {
  wrong.value = ''
  try {
    await what()
  } catch (error) {
    wrong.value = (error as Error).message
  }
}
const begin = () => act(async () => void (codes.value = await call<Codes>('POST', '/account/codes/new')))
const use = () => act(async () => {
  recovery.value = (await call<{ recovery: string[] }>('POST', '/account/codes', { now: now.value, secret: codes.value!.secret, code: code.value })).recovery
  codes.value = null
  now.value = code.value = ''
})
const drop = () => act(async () => {
  await call('POST', '/account/codes/off', { now: now.value })
  off.value = false
  now.value = ''
  emit('changed')
})
</script>

<template>
  <RecoveryCodes v-if="recovery.length" :codes="recovery" @kept="recovery = []; emit('changed')" />
  <section v-else class="sheet card" aria-labelledby="codes">
    <h2 id="codes">One-time codes</h2>
    <template v-if="on">
      <p>On: the portal asks for a code of your authenticator at each sign-in. {{ left }} recovery codes are left. Other programs ask for it where the administrator wants that.</p>
      <form v-if="off" @submit.prevent="drop"><label>Your password<input v-model="now" name="codes-now" type="password" autocomplete="current-password" /></label><button class="first" :disabled="!now">Switch them off</button><button type="button" @click="off = false">Cancel</button></form>
      <p v-else-if="required" class="soft">This account may not go without.</p>
      <button v-else @click="off = true">Switch them off…</button>
    </template>
    <template v-else-if="codes">
      <p>Read the picture with an authenticator app, or type the secret into it. Then type the code that it shows.</p>
      <img :src="'data:image/png;base64,' + codes.picture" alt="The secret, for the camera of an authenticator" width="220" height="220" />
      <code>{{ codes.secret }}</code>
      <form @submit.prevent="use"><label>The code<input v-model="code" name="codes-code" autocomplete="one-time-code" spellcheck="false" /></label><label>Your password<input v-model="now" name="codes-now" type="password" autocomplete="current-password" /></label><button class="first" :disabled="!code || !now">Switch them on</button><button type="button" @click="codes = null">Cancel</button></form>
    </template>
    <template v-else>
      <p>Off: your password alone signs you in. With codes of an authenticator app, a stolen password opens nothing here.</p>
      <button @click="begin">Set them up…</button>
    </template>
    <p class="wrong" role="alert">{{ wrong }}</p>
  </section>
</template>

<style scoped>
.card { padding: 14px 16px; display: grid; gap: 10px; justify-items: start; }
.card h2 { font-size: 17px; }
form { display: flex; flex-wrap: wrap; gap: 12px; align-items: end; }
p { margin: 0; }
p:empty { display: none; }
code { overflow-wrap: anywhere; }
</style>
