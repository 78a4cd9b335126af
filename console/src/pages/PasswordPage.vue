<script setup lang="ts">
import { NButton } from 'naive-ui'
import { ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import FrontDoor from '@/parts/FrontDoor.vue'

// The secret of the one-time link stands behind its #, which no server sees. It is spent when
// the button is pressed: who only looks at the link, as mail scanners do, spends nothing.
const secret = location.hash.slice(1)
const shown = ref<Schemas['PasswordShown'] | null>(null)
const wrong = ref(secret ? '' : 'This page is reached by the link that was sent to you.')
const busy = ref(false)

async function show() {
  busy.value = true
  wrong.value = ''
  try {
    shown.value = await call<Schemas['PasswordShown']>('POST', '/password-links/open', { secret } satisfies Schemas['PasswordLinkOpen'])
    history.replaceState(null, '', location.pathname)
  } catch (error) {
    wrong.value = sentence(error)
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <FrontDoor title="Your password" :wrong="wrong" @submit="show">
    <template v-if="shown">
      <p>User name <b class="mono">{{ shown.account }}</b></p>
      <p>Password <code class="password">{{ shown.password }}</code></p>
      <p class="soft">Write it down, or put it into your password safe now: this page can't show it again.</p>
    </template>
    <template v-else>
      <p class="soft">The password is shown once, to whoever presses the button first. If it was shown before, ask for a new link and say so.</p>
      <NButton type="primary" attr-type="submit" :loading="busy" :disabled="!secret">Show the password</NButton>
    </template>
  </FrontDoor>
</template>

<style scoped>
.password { font-size: 17px; }
</style>
