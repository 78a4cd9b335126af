<script setup lang="ts">
import { NButton, NInput, NPopconfirm, useMessage } from 'naive-ui'
import { onMounted, reactive, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import { minute, zone } from '@/format'
import { useOperator } from '@/operator'

type Certificate = Schemas['Certificate']
defineProps<{ mayChange: boolean }>()
const message = useMessage()
const isOwner = useOperator().isOwner()
const shown = ref<Certificate[]>([])
const doing = ref<'' | 'follow' | 'acme'>('')
const form = reactive({ name: 'main', certificate: '', key: '', hosts: '', contact: '', directory: '' })
const wrong = ref('')
const busy = ref(false)
// One that an authority gives is renewed long before: it ends soon only when that failed.
const soon = (c: Certificate) => new Date(c.expires).getTime() - Date.now() < (c.acme ? (new Date(c.expires).getTime() - new Date(c.starts).getTime()) / 4 : 21 * 24 * 3600 * 1000)

async function load() {
  shown.value = (await call<Schemas['CertificatePage']>('GET', '/certificates')).items
}
async function act(change: () => Promise<unknown>) {
  wrong.value = ''
  busy.value = true
  try {
    await change()
    doing.value = ''
    await load()
  } catch (error) {
    if (doing.value) wrong.value = sentence(error)
    else message.error(sentence(error))
  } finally {
    busy.value = false
  }
}
onMounted(() => act(async () => {}))
function begin(what: 'follow' | 'acme') {
  wrong.value = ''
  doing.value = what
}
const put = (name: string, ask: Schemas['CertificateChange']) => act(() => call('PUT', `/certificates/${name}`, ask))
const follow = () => put(form.name, { certificateFile: form.certificate, keyFile: form.key })
const obtain = () => put(form.name, { acme: { hosts: form.hosts.split(/[\s,]+/).filter(Boolean), contact: form.contact, directory: form.directory } })
const remove = (name: string) => act(() => call('DELETE', `/certificates/${name}`))
function source(c: Certificate): string {
  if (c.acme) return c.acme.directory ?? ''
  return c.own ? 'the data folder' : `${c.certificateFile} and ${c.keyFile}, again when they change`
}
</script>

<template>
  <div id="certificate" class="sheet">
    <header><h2>TLS certificates</h2><span class="soft">for FTP and web listeners, chosen by the name that a client asks for</span></header>
    <dl v-for="c in shown" :key="c.name">
      <dt>Certificate</dt>
      <dd><b>{{ c.name }}</b>{{ c.name === 'main' ? ', where no other fits' : '' }}
        <NPopconfirm v-if="c.name !== 'main' && mayChange" @positive-click="remove(c.name)">
          <template #trigger><button class="plain">Remove</button></template>
          Clients are shown another one from then on.
        </NPopconfirm>
      </dd>
      <dt>For</dt><dd>{{ c.names.join(', ') }}</dd>
      <dt>Signed by</dt><dd>{{ c.selfSigned ? 'itself: clients that do not know it will warn, so tell people the fingerprint' : c.issuer }}</dd>
      <dt>Valid</dt><dd :class="{ warn: soon(c) }">{{ minute(c.starts) }} to {{ minute(c.expires) }} {{ zone }}{{ soon(c) ? ': it ends soon' : '' }}</dd>
      <dt>SHA-256</dt><dd class="mono">{{ c.fingerprint }}</dd>
      <dt>{{ c.acme ? 'Comes from' : 'Read from' }}</dt><dd>{{ source(c) }}</dd>
      <template v-if="c.renews"><dt>Renewed</dt><dd>{{ minute(c.renews) }} {{ zone }}</dd></template>
      <template v-if="c.failed"><dt>Problem</dt><dd class="warn">It could not be renewed ({{ c.failed }}×): {{ c.failure }}</dd></template>
      <template v-if="c.problem"><dt>Problem</dt><dd class="warn">The files have changed and can't be used: {{ c.problem }}</dd></template>
    </dl>
    <form v-if="doing" class="foot" @submit.prevent="doing === 'acme' ? obtain() : follow()">
      <label>Name of the certificate<NInput v-model:value="form.name" placeholder="" :input-props="{ name: 'certificateName' }" /></label>
      <template v-if="doing === 'follow'">
        <label>Certificate file on the service's machine<NInput v-model:value="form.certificate" placeholder="/etc/ssl/keep.pem" :input-props="{ name: 'certificateFile' }" /></label>
        <label>Key file<NInput v-model:value="form.key" placeholder="the same" :input-props="{ name: 'keyFile' }" /></label>
      </template>
      <template v-else>
        <label>Host names that clients come to<NInput v-model:value="form.hosts" placeholder="files.example.org" :input-props="{ name: 'hosts' }" /></label>
        <label>Mail address for the authority<NInput v-model:value="form.contact" placeholder="none" :input-props="{ name: 'contact' }" /></label>
        <label>Directory of the authority<NInput v-model:value="form.directory" placeholder="the usual one" :input-props="{ name: 'directory' }" /></label>
      </template>
      <NButton type="primary" size="small" attr-type="submit" :loading="busy" :disabled="!form.name || (doing === 'acme' ? !form.hosts : !form.certificate)">{{ doing === 'acme' ? 'Get it' : 'Use these files' }}</NButton>
      <NButton size="small" :disabled="busy" @click="doing = ''">Cancel</NButton>
      <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
    </form>
    <div v-else-if="mayChange" class="foot">
      <template v-if="isOwner">
        <NButton size="small" @click="begin('acme')">Get one from an authority</NButton>
        <NButton size="small" @click="begin('follow')">Use certificate files</NButton>
      </template>
      <NPopconfirm @positive-click="put('main', { selfSigned: true })">
        <template #trigger><NButton size="small">Make a new self-signed one</NButton></template>
        Clients that know the one of now will warn.
      </NPopconfirm>
    </div>
  </div>
</template>

<style scoped>
dl { margin: 0; padding: 12px 14px; display: grid; grid-template-columns: 100px 1fr; gap: 5px 12px; }
dl + dl { border-top: 1px solid var(--line); }
dt { color: var(--soft); }
dd { margin: 0; overflow-wrap: anywhere; }
dd .plain { margin-left: 12px; }
.warn { color: var(--copper); font-weight: 600; }
.wrong { color: var(--brick); margin: 0; width: 100%; }
.foot { display: flex; flex-wrap: wrap; gap: 10px; align-items: end; padding: 10px 14px; border-top: 1px solid var(--line); }
label { display: grid; gap: 4px; font-size: 13px; color: var(--soft); min-width: 260px; }
</style>
