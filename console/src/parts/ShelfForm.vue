<script setup lang="ts">
import { NButton, NInput } from 'naive-ui'
import { computed, reactive, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import { words } from './notice'

// Puts a key on the shelf, or changes one and the accounts that have it.
const props = defineProps<{ of?: Schemas['ShelfKey'] }>()
const emit = defineEmits<{ saved: []; close: [] }>()
const k = props.of
const form = reactive({ name: k?.name ?? '', key: '', owner: k?.owner ?? '', note: k?.note ?? '', expires: k?.expires?.slice(0, 10) ?? '', networks: k?.networks.join(', ') ?? '', accounts: k?.accounts.join(', ') ?? '', authority: false })
const wrong = ref('')
const ready = computed(() => k || (form.name && form.key))
async function save() {
  wrong.value = ''
  const ask: Schemas['ShelfAsk'] = {
    owner: form.owner, note: form.note, networks: words(form.networks), ...(form.key ? { key: form.key } : {}), ...(form.authority ? { authority: true } : {}),
    ...(form.expires !== (k?.expires?.slice(0, 10) ?? '') ? { expires: form.expires ? `${form.expires}T00:00:00Z` : '0001-01-01T00:00:00Z' } : {}),
  }
  try {
    const { name } = await (k ? call<Schemas['ShelfKey']>('PATCH', `/shelf/${k.name}`, ask) : call<Schemas['ShelfKey']>('POST', '/shelf', { ...ask, name: form.name }))
    const [before, wanted] = [k?.accounts ?? [], words(form.accounts)]
    const more = wanted.filter((account) => !before.includes(account))
    if (more.length) await call('POST', `/shelf/${name}/accounts`, { accounts: more } satisfies Schemas['ShelfAttach'])
    for (const account of before) if (!wanted.includes(account)) await call('DELETE', `/shelf/${name}/accounts/${account}`)
    emit('saved')
    emit('close')
  } catch (error) {
    wrong.value = sentence(error)
    emit('saved')
  }
}
</script>

<template>
  <form class="fields" @submit.prevent="save">
    <h2>{{ k ? `Key ${k.name}` : 'A key on the shelf' }}</h2>
    <label v-if="!k">Name<NInput v-model:value="form.name" placeholder="" autofocus :input-props="{ name: 'shelf-name', spellcheck: false, autocapitalize: 'none' }" /></label>
    <label>Who has the private half<NInput v-model:value="form.owner" placeholder="" :input-props="{ name: 'owner' }" /></label>
    <label>Note<NInput v-model:value="form.note" placeholder="" :input-props="{ name: 'shelf-note' }" /></label>
    <label class="wide">{{ k ? 'Public key that takes its place, in all accounts at once; empty leaves the one that is there' : 'Public key' }}<NInput v-model:value="form.key" type="textarea" :rows="2" placeholder="" :input-props="{ name: 'public-key', spellcheck: false }" /></label>
    <label>Accounts that have it<NInput v-model:value="form.accounts" placeholder="" :input-props="{ name: 'accounts', spellcheck: false, autocapitalize: 'none' }" /></label>
    <label>Works until this day begins (UTC); empty for no end<NInput v-model:value="form.expires" placeholder="2027-03-01" :input-props="{ name: 'expires', spellcheck: false }" /></label>
    <label>May be used from these networks only; empty for everywhere<NInput v-model:value="form.networks" placeholder="" :input-props="{ name: 'networks', spellcheck: false }" /></label>
    <label v-if="!k" class="tick"><input v-model="form.authority" type="checkbox" name="authority" />it signs user certificates, which the accounts take</label>
    <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
    <div class="row"><NButton type="primary" attr-type="submit" :disabled="!ready">{{ k ? 'Save' : 'Put it on the shelf' }}</NButton><NButton @click="$emit('close')">Cancel</NButton></div>
  </form>
</template>

<style scoped>
.fields .tick { display: flex; gap: 8px; align-items: center; color: var(--ink); }
.fields { grid-template-columns: repeat(auto-fit, minmax(min(280px, 100%), 1fr)); max-width: 900px; align-items: end; }
.fields > h2, .fields > p, .row, .wide { grid-column: 1 / -1; margin: 0; }
</style>
