<script setup lang="ts">
import { NButton, NInput, NSelect } from 'naive-ui'
import { reactive, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import { useOperator } from '@/operator'
import ShownOnce from './ShownOnce.vue'
import { lengthOf, lines, words } from './notice'

// Makes a receiver, or changes one.
const props = defineProps<{ receiver?: Schemas['Receiver'] }>()
const emit = defineEmits<{ saved: []; close: [] }>()
const owner = useOperator().isOwner()
const r = props.receiver
const form = reactive({
  name: r?.name ?? '', kind: r?.kind ?? ('web' as 'web' | 'mail'), note: r?.note ?? '', off: r?.off ?? false, url: r?.url ?? '', to: r?.to?.join(', ') ?? '', digest: lengthOf(r?.digest), longest: lengthOf(r?.longest ?? 259200),
  timeout: lengthOf(r?.timeout ?? 10), private: r?.private ?? false, trust: r?.trust ?? '', body: r?.body ?? '', bodyType: r?.bodyType ?? '',
  headers: r?.headers?.map((h) => `${h.name}: (as it is)`).join('\n') ?? '', newSecret: false,
})
const mayBePrivate = owner || form.private
const secret = ref('')
const wrong = ref('')
const kinds = [{ label: 'a program, by a web call', value: 'web' }, { label: 'people, by mail', value: 'mail' }]
async function save() {
  wrong.value = ''
  const length = (text: string) => text as unknown as number // which the service reads
  const ask: Schemas['ReceiverAsk'] = { note: form.note, off: form.off, longest: length(form.longest) }
  if (form.kind === 'mail') Object.assign(ask, { to: words(form.to), digest: length(form.digest) })
  else {
    const headers = lines(form.headers).map((line) => {
      const at = line.indexOf(':')
      const name = line.slice(0, at < 0 ? undefined : at).trim()
      const value = at < 0 ? '' : line.slice(at + 1).trim()
      return value === '(as it is)' ? { name } : { name, value }
    })
    Object.assign(ask, { url: form.url.trim(), timeout: length(form.timeout), private: form.private, trust: form.trust, body: form.body, bodyType: form.body ? form.bodyType : '', headers, ...(form.newSecret ? { secret: '' } : {}) })
  }
  try {
    const made = await (r ? call<Schemas['Receiver']>('PATCH', `/receivers/${r.name}`, ask) : call<Schemas['Receiver']>('POST', '/receivers', { ...ask, name: form.name, kind: form.kind }))
    emit('saved')
    secret.value = made.secret ?? ''
    if (!secret.value) emit('close')
  } catch (error) {
    wrong.value = sentence(error)
  }
}
</script>

<template>
  <div v-if="secret" class="fields"><ShownOnce say="The secret that signs its calls" :secret="secret" /><div class="row"><NButton @click="$emit('close')">Done</NButton></div></div>
  <form v-else class="fields" @submit.prevent="save">
    <h2>{{ r ? `Receiver ${r.name}` : 'A new receiver' }}</h2>
    <template v-if="!r">
      <label>Name<NInput v-model:value="form.name" placeholder="" autofocus :input-props="{ name: 'receiver', spellcheck: false, autocapitalize: 'none' }" /></label>
      <label>It is<NSelect v-model:value="form.kind" :options="kinds" :input-props="{ 'aria-label': 'It is' }" /></label>
    </template>
    <template v-if="form.kind === 'web'">
      <label>Address that is called<NInput v-model:value="form.url" placeholder="https://host.example/path" :input-props="{ name: 'url', spellcheck: false }" /></label>
      <label>How long a call may take<NInput v-model:value="form.timeout" placeholder="" :input-props="{ name: 'timeout' }" /></label>
      <label>Headers, as in Name: value, one on each line<NInput v-model:value="form.headers" type="textarea" :rows="2" placeholder="" :input-props="{ name: 'headers', spellcheck: false }" /></label>
      <label>A body of its own (a template); empty for a CloudEvent<NInput v-model:value="form.body" type="textarea" :rows="3" placeholder="" :input-props="{ name: 'body', spellcheck: false }" /></label>
      <label v-if="form.body">Its media type<NInput v-model:value="form.bodyType" placeholder="application/json" :input-props="{ name: 'bodyType' }" /></label>
      <label>Authority that signed its certificate (PEM); empty for those of this system<NInput v-model:value="form.trust" type="textarea" :rows="2" placeholder="" :input-props="{ name: 'trust', spellcheck: false }" /></label>
      <label v-if="mayBePrivate" class="tick"><input v-model="form.private" type="checkbox" name="private" :disabled="!owner" />it may be on this machine or in a private network</label>
      <label v-if="r" class="tick"><input v-model="form.newSecret" type="checkbox" name="new-secret" />make a new secret that signs its calls</label>
    </template>
    <template v-if="form.kind === 'mail'">
      <label>E-mail addresses<NInput v-model:value="form.to" placeholder="" :input-props="{ name: 'to', spellcheck: false }" /></label>
      <label>One mail about all so often, as in 1h; 0s is a mail about each<NInput v-model:value="form.digest" placeholder="" :input-props="{ name: 'digest' }" /></label>
    </template>
    <label>How long it is tried until it is set aside<NInput v-model:value="form.longest" placeholder="" :input-props="{ name: 'longest' }" /></label>
    <label>Note, for the list<NInput v-model:value="form.note" placeholder="" :input-props="{ name: 'receiver-note' }" /></label>
    <label v-if="r" class="tick"><input v-model="form.off" type="checkbox" name="off" />off: it is told nothing, and never what happens meanwhile</label>
    <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
    <div class="row"><NButton type="primary" attr-type="submit" :disabled="!form.name || (form.kind === 'web' ? !form.url : !form.to)">{{ r ? 'Save' : 'Add the receiver' }}</NButton><NButton @click="$emit('close')">Cancel</NButton></div>
  </form>
</template>

<style scoped>
.fields .tick { display: flex; gap: 8px; align-items: center; color: var(--ink); }
.fields { grid-template-columns: repeat(auto-fit, minmax(min(280px, 100%), 1fr)); max-width: 900px; align-items: end; }
.fields > h2, .fields > p, .row { grid-column: 1 / -1; margin: 0; }
</style>
