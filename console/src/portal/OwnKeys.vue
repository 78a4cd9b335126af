<script lang="ts">
export type OwnKey = { id: number; label: string; type: string; fingerprint: string; created: string; lastUsed?: string; expires?: string; shelf?: string }
</script>

<script setup lang="ts">
import { ref } from 'vue'
import { minute } from '@/format'
import { call } from './calls'
import { makeKey } from './key'

const props = defineProps<{ account: string; keys: OwnKey[]; asks: boolean }>()
const emit = defineEmits<{ changed: [] }>()
const adding = ref(false)
const text = ref('')
const label = ref('')
const now = ref('')
const made = ref('')
const wrong = ref('')
async function make() {
  wrong.value = ''
  try {
    const pair = await makeKey(`${props.account}@portal`)
    text.value = pair.open
    made.value = pair.secret
  } catch (error) {
    wrong.value = (error as Error).message
  }
}
// The private half is saved by the browser; it was never anywhere else.
function save() {
  const a = document.createElement('a')
  a.href = URL.createObjectURL(new Blob([made.value], { type: 'application/octet-stream' }))
  a.download = `${props.account}_ed25519`
  a.click()
  setTimeout(() => URL.revokeObjectURL(a.href), 10_000)
}
async function act(what: () => Promise<void>) {
  wrong.value = ''
  try {
    await what()
    emit('changed')
  } catch (error) {
    wrong.value = (error as Error).message
  }
}
const add = () => act(async () => {
  await call('POST', '/account/keys', { now: now.value, key: text.value, label: label.value })
  if (made.value) save()
  adding.value = false
  text.value = label.value = now.value = made.value = ''
})
const remove = (k: OwnKey) => act(() => call('DELETE', '/account/keys/' + k.id))
async function read(event: Event) {
  text.value = (await (event.target as HTMLInputElement).files?.[0]?.text()) ?? ''
}
</script>

<template>
  <section class="sheet card" aria-labelledby="keys">
    <h2 id="keys">Keys</h2>
    <ul v-if="keys.length">
      <li v-for="k in keys" :key="k.id"><span class="grow"><b>{{ k.label || k.type }}</b> <span class="soft">{{ k.type }} {{ k.fingerprint }}<br />since {{ minute(k.created) }}{{ k.lastUsed ? `, used ${minute(k.lastUsed)}` : ', never used' }}</span></span><span v-if="k.shelf" class="soft">given by an administrator</span><button v-else class="plain" :aria-label="`Remove ${k.label || k.fingerprint}`" @click="remove(k)">Remove</button></li>
    </ul>
    <p v-else class="soft">You have none. With a key, other programs sign you in over SFTP without your password.</p>
    <form v-if="adding" @submit.prevent="add">
      <label>The public key, in any form<textarea v-model="text" name="key" rows="3" spellcheck="false" :readonly="!!made" /></label>
      <div class="line"><button type="button" @click="make">Make a new pair here</button><label class="file">or read a file<input type="file" @change="read" /></label></div>
      <p v-if="made">The private half is in this browser only. It is saved as a file when you add the key: keep it where nobody else reads it.</p>
      <div class="line"><label>A name for it<input v-model="label" name="key-label" /></label><label v-if="asks">Your password<input v-model="now" name="key-now" type="password" autocomplete="current-password" /></label></div>
      <div class="line"><button class="first" :disabled="!text || (asks && !now)">Add it</button><button type="button" @click="adding = false; made = text = ''">Cancel</button></div>
    </form>
    <button v-else @click="adding = true">Add a key…</button>
    <p class="wrong" role="alert">{{ wrong }}</p>
  </section>
</template>

<style scoped>
.card { padding: 14px 16px; display: grid; gap: 10px; justify-items: start; }
.card h2 { font-size: 17px; }
ul { list-style: none; margin: 0; padding: 0; display: grid; gap: 8px; width: 100%; }
li { display: flex; gap: 12px; align-items: center; }
.grow { flex: 1; overflow-wrap: anywhere; }
form { display: grid; gap: 12px; width: 100%; }
.line { display: flex; flex-wrap: wrap; gap: 12px; align-items: end; }
textarea { font: 14px/1.4 monospace; width: 100%; padding: 8px 10px; border: 1px solid var(--rest); border-radius: 4px; background: var(--raised); color: var(--ink); }
p { margin: 0; }
p:empty { display: none; }
</style>
