<script setup lang="ts">
import { NButton, NInput } from 'naive-ui'
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { call, sentence, type Schemas } from '@/api/client'
import { useOperator } from '@/operator'
import FrontDoor from '@/parts/FrontDoor.vue'

// The secret of the one-time link stands behind its #, which no server sees.
const secret = location.hash.slice(1)
const router = useRouter()
const operator = useOperator()
const name = ref('')
const password = ref('')
const wrong = ref(secret ? '' : 'This page is reached by the one-time link that the service prints at its start.')
const busy = ref(false)

async function make() {
  busy.value = true
  wrong.value = ''
  try {
    await call('POST', '/setup', { secret, operator: name.value, password: password.value } satisfies Schemas['SetUp'])
    await operator.signIn(name.value, password.value)
    await router.push('/set-up')
  } catch (error) {
    wrong.value = sentence(error)
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <FrontDoor title="First operator" :wrong="wrong" @submit="make">
    <p class="soft">You will own this service: you can do everything, and make other operators. The link that brought you here works once.</p>
    <label>Your name as an operator<NInput v-model:value="name" autofocus placeholder="" :input-props="{ autocomplete: 'username', name: 'operator' }" /></label>
    <label>Password, at least 10 characters<NInput v-model:value="password" type="password" show-password-on="click" placeholder="" :input-props="{ autocomplete: 'new-password', name: 'password' }" /></label>
    <NButton type="primary" attr-type="submit" :loading="busy" :disabled="!secret || !name || password.length < 10">Make the operator and sign in</NButton>
  </FrontDoor>
</template>
