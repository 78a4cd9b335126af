<script setup lang="ts">
import { NButton, NInput } from 'naive-ui'
import { onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { call, Problem, sentence, type Schemas } from '@/api/client'
import { useOperator } from '@/operator'
import FrontDoor from '@/parts/FrontDoor.vue'
import { passkeysWork, stopped } from '@/passkey'

const route = useRoute()
const router = useRouter()
const operator = useOperator()
const name = ref('')
const password = ref('')
const code = ref('')
const needsCode = ref(false)
const wrong = ref('')
const busy = ref(false)
const setUpNeeded = ref(false)
const elsewhere = ref<Schemas['SSO'][]>([])

onMounted(async () => {
  if (route.query.sso) wrong.value = 'The single sign-on did not let you in. The audit trail says why.'
  elsewhere.value = (await call<Schemas['SSOPage']>('GET', '/sign-in/sso').catch(() => null))?.items ?? []
  setUpNeeded.value = (await call<Schemas['SetupState']>('GET', '/setup').catch(() => null))?.needed ?? false
})

const enter = () => act(() => operator.signIn(name.value, password.value, needsCode.value ? code.value : undefined))
const byPasskey = () => act(() => operator.signInByPasskey())
const leave = (source: string) =>
  act(async () => {
    location.assign((await call<Schemas['SSOGo']>('POST', '/sign-in/sso', { source } satisfies Schemas['SSOLeave'])).url)
    await new Promise(() => undefined) // until the page is gone
  })
async function act(prove: () => Promise<void>) {
  busy.value = true
  wrong.value = ''
  try {
    await prove()
    await router.push(typeof route.query.to === 'string' ? route.query.to : '/')
  } catch (error) {
    if (error instanceof Problem && error.reason === 'code-needed') needsCode.value = true
    else if (!stopped(error)) wrong.value = sentence(error)
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <FrontDoor title="Sign in" :wrong="wrong" @submit="enter">
    <p v-if="setUpNeeded" class="soft">There is no operator yet. The service has printed a one-time link for making the first one: open that.</p>
    <label>Operator<NInput v-model:value="name" autofocus placeholder="" :input-props="{ autocomplete: 'username', name: 'operator' }" /></label>
    <label>Password<NInput v-model:value="password" type="password" placeholder="" :input-props="{ autocomplete: 'current-password', name: 'password' }" /></label>
    <label v-if="needsCode">One-time code from your device, or a recovery code<NInput v-model:value="code" autofocus placeholder="" :input-props="{ autocomplete: 'one-time-code', name: 'code', inputmode: 'text' }" /></label>
    <NButton type="primary" attr-type="submit" :loading="busy" :disabled="!name || !password || (needsCode && !code)">Sign in</NButton>
    <NButton v-if="passkeysWork()" :disabled="busy" @click="byPasskey">Sign in with a passkey</NButton>
    <NButton v-for="one in elsewhere" :key="one.source" :disabled="busy" @click="leave(one.source)">Sign in with {{ one.label }}</NButton>
  </FrontDoor>
</template>
