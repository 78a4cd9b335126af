<script setup lang="ts">
import { NButton, NCheckbox, NInput } from 'naive-ui'
import { reactive } from 'vue'
import { call, Problem, sentence, type Schemas } from '@/api/client'

const props = defineProps<{ account: string }>()
const emit = defineEmits<{ added: []; close: [] }>()
const form = reactive({ key: '', label: '', until: '', networks: '', authority: false, shared: false })
const wrong = reactive({ field: '', say: '' })

// A private key must not even leave the browser.
const isPrivate = () => /BEGIN [A-Z0-9 ]*PRIVATE KEY|PuTTY-User-Key-File/i.test(form.key)

async function add() {
  Object.assign(wrong, { field: '', say: '' })
  if (isPrivate()) {
    form.key = ''
    wrong.say = 'This is a PRIVATE key; it was not sent. Whoever saw it can sign in with it: make a new pair and give the public half, the file that ends in .pub'
    return
  }
  const ask: Schemas['KeyNew'] = { key: form.key, shared: form.shared, authority: form.authority }
  if (form.label) ask.label = form.label
  if (form.until) ask.expires = `${form.until}T00:00:00Z`
  if (form.networks.trim()) ask.networks = form.networks.trim().split(/[\s,]+/)
  try {
    await call('POST', `/accounts/${props.account}/keys`, ask)
    emit('added')
  } catch (error) {
    Object.assign(wrong, { field: error instanceof Problem ? error.field : '', say: sentence(error) })
  }
}
</script>

<template>
  <form @submit.prevent="add">
    <label>Public key, or several, one a line<NInput v-model:value="form.key" type="textarea" :rows="3" placeholder="ssh-ed25519 …" autofocus :status="wrong.field === 'key' ? 'error' : undefined" :input-props="{ name: 'newKey' }" /></label>
    <label>Label; else the comment in the key<NInput v-model:value="form.label" placeholder="" :status="wrong.field === 'label' ? 'error' : undefined" :input-props="{ name: 'label' }" /></label>
    <div class="two">
      <label>Works until (day, UTC)<input v-model="form.until" type="date" name="until" :class="{ bad: wrong.field === 'expires' }" /></label>
      <label>Only from these networks<NInput v-model:value="form.networks" placeholder="everybody" :status="wrong.field === 'networks' ? 'error' : undefined" :input-props="{ name: 'networks' }" /></label>
    </div>
    <NCheckbox v-model:checked="form.authority">It is an authority: take user certificates it signed</NCheckbox>
    <NCheckbox v-model:checked="form.shared">Another account may have the same key</NCheckbox>
    <p class="wrong" role="alert">{{ wrong.say }}</p>
    <div class="row"><NButton type="primary" size="small" attr-type="submit" :disabled="!form.key.trim()">Add the key</NButton><NButton size="small" @click="emit('close')">Cancel</NButton></div>
  </form>
</template>

<style scoped>
form { display: grid; gap: 10px; }
.two { display: grid; grid-template-columns: repeat(auto-fit, minmax(170px, 1fr)); gap: 12px; }
input[type='date'] { font: inherit; color: var(--ink); background: var(--raised); border: 1px solid var(--line); border-radius: 3px; padding: 5px 8px; height: 34px; }
input.bad { border-color: var(--brick); }
</style>
