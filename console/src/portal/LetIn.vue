<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { call, leaveFor, type SSO } from './calls'

// Lets an SFTP client in that waits for its holder to sign in with this browser; the code is done once it is in.
const props = defineProps<{ code: string }>()
type Waits = { account: string; address: string; asked: string; sso: SSO[] }
const waits = ref<Waits | null>(null)
const said = ref(props.code === 'done' ? 'The client is signed in. You can close this page.' : '')
const wrong = ref('')
const busy = ref(false)
async function act(what: () => Promise<void>) {
  busy.value = true
  wrong.value = ''
  try {
    await what()
  } catch (error) {
    waits.value = null
    wrong.value = (error as Error).message
  } finally {
    busy.value = false
  }
}
const where = '/links/' + encodeURIComponent(props.code)
onMounted(() => {
  if (!said.value) void act(async () => void (waits.value = await call<Waits>('GET', where)))
})
const deny = () =>
  act(async () => {
    await call('DELETE', where)
    waits.value = null
    said.value = 'The client was sent away.'
  })
</script>

<template>
  <section class="ask" aria-labelledby="let-in">
    <h1 id="let-in">A program wants to sign in</h1>
    <p v-if="said" role="status">{{ said }}</p>
    <template v-if="waits">
      <dl>
        <dt>Account</dt><dd>{{ waits.account }}</dd>
        <dt>From the address</dt><dd>{{ waits.address }}</dd>
        <dt>Since</dt><dd>{{ new Date(waits.asked).toLocaleTimeString() }}</dd>
      </dl>
      <p>Go on only if you have just started an SFTP program yourself, and it showed you this link. If somebody sent you the link, they would get at your files.</p>
      <div class="ways">
        <button v-for="one in waits.sso" :key="one.source" class="first" :disabled="busy" @click="act(() => leaveFor(one.source, code))">Sign in with {{ one.label }} and let it in</button>
        <button :disabled="busy" @click="deny">It is not mine</button>
      </div>
    </template>
    <p class="wrong" role="alert">{{ wrong }}</p>
  </section>
</template>

<style scoped>
.ask { display: grid; gap: 14px; max-width: 460px; padding-top: 8vh; }
.ask p { margin: 0; }
dl { display: grid; grid-template-columns: auto 1fr; gap: 6px 16px; margin: 0; }
dt { color: var(--soft); }
dd { margin: 0; font-weight: 600; overflow-wrap: anywhere; }
.ways { display: flex; flex-wrap: wrap; gap: 12px; }
</style>
