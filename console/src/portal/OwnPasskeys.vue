<script lang="ts">
export type OwnPasskey = { id: string; label: string; host: string; created: string; lastUsed?: string }
</script>

<script setup lang="ts">
import { ref } from 'vue'
import { minute } from '@/format'
import { call } from './calls'
import { addPasskey, passkeysWork, stopped } from './passkey'

defineProps<{ passkeys: OwnPasskey[]; asks: boolean }>()
const emit = defineEmits<{ changed: [] }>()
const adding = ref(false)
const label = ref('')
const now = ref('')
const wrong = ref('')
async function act(what: () => Promise<unknown>) {
  wrong.value = ''
  try {
    await what()
    emit('changed')
  } catch (error) {
    if (!stopped(error)) wrong.value = (error as Error).message
  }
}
const add = () => act(async () => {
  await addPasskey(now.value, label.value)
  adding.value = false
  label.value = now.value = ''
})
const remove = (p: OwnPasskey) => act(() => call('DELETE', '/account/passkeys/' + p.id))
</script>

<template>
  <section class="sheet card" aria-labelledby="passkeys">
    <h2 id="passkeys">Passkeys</h2>
    <ul v-if="passkeys.length">
      <li v-for="p in passkeys" :key="p.id"><span class="grow"><b>{{ p.label }}</b> <span class="soft">for {{ p.host }}, since {{ minute(p.created) }}{{ p.lastUsed ? `, used ${minute(p.lastUsed)}` : ', never used' }}</span></span><button class="plain" :aria-label="`Remove the passkey ${p.label}`" @click="remove(p)">Remove</button></li>
    </ul>
    <p v-else class="soft">You have none. A passkey of this device signs you in here without your password and without a code.</p>
    <p v-if="!passkeysWork()" class="soft">This browser makes them on pages with HTTPS only.</p>
    <form v-else-if="adding" @submit.prevent="add"><label>A name for this device<input v-model="label" name="passkey-label" /></label><label v-if="asks">Your password<input v-model="now" name="passkey-now" type="password" autocomplete="current-password" /></label><button class="first" :disabled="!label || (asks && !now)">Add it</button><button type="button" @click="adding = false">Cancel</button></form>
    <button v-else @click="adding = true">Add a passkey…</button>
    <p class="wrong" role="alert">{{ wrong }}</p>
  </section>
</template>

<style scoped>
.card { padding: 14px 16px; display: grid; gap: 10px; justify-items: start; }
.card h2 { font-size: 17px; }
ul { list-style: none; margin: 0; padding: 0; display: grid; gap: 8px; width: 100%; }
li { display: flex; gap: 12px; align-items: center; }
.grow { flex: 1; overflow-wrap: anywhere; }
form { display: flex; flex-wrap: wrap; gap: 12px; align-items: end; }
p { margin: 0; }
p:empty { display: none; }
</style>
