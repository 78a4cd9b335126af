<script lang="ts">
export type OwnToken = { id: string; label: string; path: string; rights: string[]; created: string; expires: string; lastUsed?: string }
</script>

<script setup lang="ts">
import { ref } from 'vue'
import { minute } from '@/format'
import { call } from './calls'

defineProps<{ tokens: OwnToken[]; asks: boolean }>()
const emit = defineEmits<{ changed: [] }>()
const all = ['list', 'download', 'upload', 'overwrite', 'rename', 'delete', 'mkdir', 'rmdir']
const adding = ref(false)
const label = ref('')
const path = ref('/')
const rights = ref(['list', 'download'])
const days = ref(90)
const now = ref('')
const made = ref('')
const wrong = ref('')
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
  made.value = (await call<{ token: string }>('POST', '/account/tokens', { now: now.value, label: label.value, path: path.value, rights: rights.value, days: days.value })).token
  adding.value = false
  label.value = now.value = ''
})
const end = (t: OwnToken) => act(() => call('DELETE', '/account/tokens/' + t.id))
</script>

<template>
  <section class="sheet card" aria-labelledby="tokens">
    <h2 id="tokens">Tokens for scripts</h2>
    <p class="soft">A script that has a token needs no password, and may do no more than you say here.</p>
    <p v-if="made" role="status">The token, shown this once: <code>{{ made }}</code> <button class="plain" @click="made = ''">I have kept it</button></p>
    <ul v-if="tokens.length">
      <li v-for="t in tokens" :key="t.id"><span class="grow"><b>{{ t.label }}</b> {{ t.rights.join(', ') }} on {{ t.path }}<br /><span class="soft">until {{ minute(t.expires) }}{{ t.lastUsed ? `, used ${minute(t.lastUsed)}` : ', never used' }}</span></span><button class="plain" :aria-label="`End ${t.label}`" @click="end(t)">End it</button></li>
    </ul>
    <form v-if="adding" @submit.prevent="add">
      <div class="line"><label>A name for it<input v-model="label" name="token-label" /></label><label>The folder that it reaches<input v-model="path" name="token-path" spellcheck="false" /></label><label>Days that it works<input v-model.number="days" name="token-days" type="number" min="1" max="366" /></label></div>
      <fieldset><legend>What it may do there</legend><label v-for="r in all" :key="r"><input v-model="rights" type="checkbox" :value="r" />{{ r }}</label></fieldset>
      <div class="line"><label v-if="asks">Your password<input v-model="now" name="token-now" type="password" autocomplete="current-password" /></label><button class="first" :disabled="!label || (asks && !now) || !rights.length">Make it</button><button type="button" @click="adding = false">Cancel</button></div>
    </form>
    <button v-else @click="adding = true">Make a token…</button>
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
.line label { flex: 1 1 180px; }
fieldset { border: 1px solid var(--line); border-radius: 4px; display: flex; flex-wrap: wrap; gap: 4px 18px; margin: 0; }
fieldset label { display: flex; gap: 6px; align-items: center; color: var(--ink); }
fieldset input { width: 18px; height: 18px; }
code { overflow-wrap: anywhere; }
p { margin: 0; }
p:empty { display: none; }
</style>
