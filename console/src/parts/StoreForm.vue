<script setup lang="ts">
import { NButton, NInput, NSelect } from 'naive-ui'
import { computed, reactive } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import ShownOnce from './ShownOnce.vue'

// Makes a place where bytes live a store.
const emit = defineEmits<{ added: [] }>()
type Kind = Schemas['StoreKind']
const kinds: { value: Kind; label: string }[] = [
  { value: 'disk', label: 'a folder of this machine' },
  { value: 'sealed', label: 'a folder, encrypted' },
  { value: 'object', label: 'a bucket (S3)' },
  { value: 'blob', label: 'a container (Azure)' },
  { value: 'remote', label: 'another SFTP server' },
]
const empty = () => ({ name: '', folder: '', endpoint: '', bucket: '', prefix: '', region: '', user: '', secret: '', hostKey: '', keyFile: '', recipient: '', sealNames: 'no', wrong: '' })
const form = reactive({ kind: 'disk' as Kind, ...empty(), key: '', keyOf: '' })

type Field = { is: 'name' | 'folder' | 'endpoint' | 'bucket' | 'prefix' | 'region' | 'user' | 'secret' | 'hostKey' | 'keyFile' | 'recipient'; label: string; example?: string; optional?: boolean }
const folder: Field = { is: 'folder', label: 'Folder of the machine', example: '/srv/…' }
const secret = (label: string): Field => ({ is: 'secret', label })
const bucket = (what: string, user: string, endpoint: string): Field[] => [
  { is: 'endpoint', label: 'URL of the service', example: endpoint },
  { is: 'bucket', label: what },
  { is: 'prefix', label: 'Path in it', optional: true },
  { is: 'user', label: user },
]
const fields: Record<Kind, Field[]> = {
  disk: [folder],
  sealed: [folder, { is: 'recipient', label: 'Public key of who else can open the files', example: 'age1…', optional: true }],
  object: [...bucket('Bucket', 'Access key', 'https://objects.example.org'), secret('Secret key'), { is: 'region', label: 'Region', optional: true }],
  blob: [...bucket('Container', 'Storage account', 'https://NAME.blob.core.windows.net'), secret('Key of the account, or a shared access signature')],
  remote: [
    { is: 'endpoint', label: 'Server', example: 'HOST:PORT' },
    { is: 'folder', label: 'Folder on it', example: '/incoming' },
    { is: 'user', label: 'Who signs in' },
    { is: 'hostKey', label: 'Fingerprint of its host key', example: 'SHA256:…' },
    { ...secret('Password'), optional: true },
    { is: 'keyFile', label: 'Or the file of a private key, on this machine', example: '/etc/…', optional: true },
  ],
}
const shown = computed(() => fields[form.kind])
const complete = computed(() => form.name && shown.value.every((f) => f.optional || form[f.is]))
const sealOptions = [{ value: 'no', label: 'names stay readable on the disk' }, { value: 'yes', label: 'names are encrypted too' }]

function asked(): Schemas['StoreNew'] {
  const local = form.kind === 'disk' || form.kind === 'sealed'
  const site: Schemas['StoreSite'] = {}
  for (const f of shown.value) {
    const text = form[f.is]
    if (!text || f.is === 'name' || f.is === 'secret' || (f.is === 'folder' && local)) continue
    if (f.is === 'hostKey') site.hostKeys = text.split(/[\s,]+/)
    else if (f.is === 'recipient') site.recipients = text.split(/[\s,]+/)
    else site[f.is] = text
  }
  if (form.kind === 'sealed' && form.sealNames === 'yes') site.sealNames = true
  return { name: form.name, kind: form.kind, site, ...(local ? { folder: form.folder } : {}), ...(form.secret ? { secret: form.secret } : {}) }
}
async function add() {
  form.wrong = ''
  try {
    const made = await call<Schemas['Store']>('POST', '/stores', asked())
    Object.assign(form, { ...empty(), key: made.key ?? '', keyOf: made.name })
    emit('added')
  } catch (error) {
    form.wrong = sentence(error)
  }
}
</script>

<template>
  <form class="add" @submit.prevent="add">
    <label>Name<NInput v-model:value="form.name" size="small" placeholder="" :input-props="{ name: 'store' }" /></label>
    <label>What it is<NSelect v-model:value="form.kind" size="small" :options="kinds" :consistent-menu-width="false" :input-props="{ 'aria-label': 'What it is' }" /></label>
    <label v-for="f in shown" :key="f.is"
      ><span>{{ f.label }}<small v-if="f.optional"> (optional)</small></span
      ><NInput v-model:value="form[f.is]" size="small" :placeholder="f.example ?? ''" :type="f.is === 'secret' ? 'password' : 'text'" :input-props="{ name: f.is, autocomplete: 'off' }"
    /></label>
    <label v-if="form.kind === 'sealed'">Names<NSelect v-model:value="form.sealNames" size="small" :options="sealOptions" :consistent-menu-width="false" :input-props="{ 'aria-label': 'Names' }" /></label>
    <NButton size="small" attr-type="submit" :disabled="!complete">Add a store</NButton>
    <span v-if="form.wrong" class="wrong" role="alert">{{ form.wrong }}</span>
    <ShownOnce v-if="form.key" class="key" :say="`The key that opens the files of ${form.keyOf}: keep it in another place than the disk`" :secret="form.key" :file="`${form.keyOf}-key.txt`" />
  </form>
</template>

<style scoped>
.add { display: grid; grid-template-columns: repeat(auto-fill, minmax(210px, 1fr)); gap: 10px; align-items: end; padding: 10px 14px; border-top: 1px solid var(--line); }
label { display: flex; flex-direction: column; gap: 2px; font-size: 13px; color: var(--soft); }
.wrong { color: var(--brick); align-self: center; }
.key { grid-column: 1 / -1; }
</style>
