<script setup lang="ts">
import { NButton, NInput, NPopconfirm, useMessage } from 'naive-ui'
import { computed, onMounted, reactive, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import { minute, zone } from '@/format'

defineProps<{ mayChange: boolean }>()
const message = useMessage()
const shown = ref<Schemas['Certificate'] | null>(null)
const files = reactive({ certificate: '', key: '' })
const following = ref(false)
const wrong = ref('')
const soon = computed(() => shown.value && new Date(shown.value.expires).getTime() - Date.now() < 21 * 24 * 3600 * 1000)

async function act(change: () => Promise<Schemas['Certificate']>) {
  wrong.value = ''
  try {
    shown.value = await change()
    following.value = false
  } catch (error) {
    if (following.value) wrong.value = sentence(error)
    else message.error(sentence(error))
  }
}
onMounted(() => act(() => call('GET', '/certificate')))
const put = (ask: Schemas['CertificateChange']) => act(() => call('PUT', '/certificate', ask))
const follow = () => put({ certificateFile: files.certificate, keyFile: files.key })
</script>

<template>
  <div id="certificate" class="sheet">
    <header><h2>TLS certificate</h2><span class="soft">that FTP clients are shown</span></header>
    <dl v-if="shown">
      <dt>For</dt><dd>{{ shown.names.join(', ') }}</dd>
      <dt>Signed by</dt><dd>{{ shown.selfSigned ? 'itself: clients that do not know it will warn, so tell people the fingerprint' : shown.issuer }}</dd>
      <dt>Valid</dt><dd :class="{ warn: soon }">{{ minute(shown.starts) }} to {{ minute(shown.expires) }} {{ zone }}{{ soon ? ': it ends soon' : '' }}</dd>
      <dt>SHA-256</dt><dd class="mono">{{ shown.fingerprint }}</dd>
      <dt>Read from</dt><dd>{{ shown.own ? 'the data folder' : `${shown.certificateFile} and ${shown.keyFile}, again when they change` }}</dd>
      <template v-if="shown.problem"><dt>Problem</dt><dd class="warn">The files have changed and can't be used: {{ shown.problem }}</dd></template>
    </dl>
    <form v-if="following" class="foot" @submit.prevent="follow">
      <label>Certificate file on the service's machine<NInput v-model:value="files.certificate" placeholder="/etc/ssl/keep.pem" :input-props="{ name: 'certificateFile' }" /></label>
      <label>Key file<NInput v-model:value="files.key" placeholder="the same" :input-props="{ name: 'keyFile' }" /></label>
      <NButton type="primary" size="small" attr-type="submit" :disabled="!files.certificate">Use these files</NButton>
      <NButton size="small" @click="following = false">Cancel</NButton>
      <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
    </form>
    <div v-else-if="mayChange" class="foot">
      <NButton size="small" @click="following = true">Use certificate files</NButton>
      <NPopconfirm @positive-click="put({ selfSigned: true })">
        <template #trigger><NButton size="small">Make a new self-signed one</NButton></template>
        Clients that know the one of now will warn.
      </NPopconfirm>
    </div>
  </div>
</template>

<style scoped>
dl { margin: 0; padding: 12px 14px; display: grid; grid-template-columns: 100px 1fr; gap: 5px 12px; }
dt { color: var(--soft); }
dd { margin: 0; overflow-wrap: anywhere; }
.warn { color: var(--copper); font-weight: 600; }
.wrong { color: var(--brick); margin: 0; width: 100%; }
.foot { display: flex; flex-wrap: wrap; gap: 10px; align-items: end; padding: 10px 14px; border-top: 1px solid var(--line); }
label { display: grid; gap: 4px; font-size: 13px; color: var(--soft); min-width: 300px; }
</style>
