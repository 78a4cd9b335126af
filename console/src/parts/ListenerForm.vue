<script setup lang="ts">
import { NButton, NCheckbox, NCheckboxGroup, NInput, NPopconfirm, NSelect, useDialog, useMessage } from 'naive-ui'
import { computed, onMounted, reactive, ref } from 'vue'
import { call, Problem, sentence, type Schemas } from '@/api/client'
import DrawerFrame from './DrawerFrame.vue'

type Listener = Schemas['Listener']
const props = defineProps<{ listener?: Listener; mayChange: boolean }>()
const emit = defineEmits<{ changed: []; close: [] }>()
const message = useMessage()
const dialog = useDialog()
const l = props.listener
const form = reactive({
  name: l?.name ?? '',
  protocol: l?.protocol ?? ('ftp' as Listener['protocol']),
  address: l?.address ?? '',
  encryption: l?.encryption ?? ('required' as Listener['encryption']),
  passive: l?.passiveLow ? `${l.passiveLow}-${l.passiveHigh}` : '',
  advertise: l?.advertise ?? '',
  allow: l?.allow.join(' ') ?? '',
  deny: l?.deny.join(' ') ?? '',
  banner: l?.banner ?? '',
  welcome: l?.welcome ?? '',
  active: l?.active ?? true,
  resumeData: l?.resumeData ?? false,
  clientCertificates: l?.clientCertificates ?? false,
  proxies: l?.proxies.join(' ') ?? '',
  forwarded: l?.forwarded ?? '',
  certificate: l?.certificate ?? '',
  faces: l?.faces ?? (['console'] as Listener['faces']),
  hosts: l?.hosts.join(' ') ?? '',
  redirect: l?.redirect ?? '',
})
const wrong = reactive({ field: '', say: '' })
const busy = ref(false)
const isFTP = computed(() => form.protocol === 'ftp' || form.protocol === 'ftps')
const isWeb = computed(() => form.protocol === 'web')
const protocols = [
  { value: 'ftp', label: 'FTP, TLS on request' },
  { value: 'ftps', label: 'FTP over TLS from the first byte' },
  { value: 'sftp', label: 'SFTP' },
  { value: 'web', label: 'Web' },
]
const policies = [
  { value: 'required', label: 'required' },
  { value: 'optional', label: 'optional: passwords may go in clear' },
  { value: 'off', label: 'off: everything goes in clear' },
]
const webPolicies = [
  { value: 'required', label: 'TLS' },
  { value: 'off', label: 'none' },
]
const faces = [
  { value: 'console', label: 'console and API' },
  { value: 'portal', label: 'portal' },
  { value: 'passes', label: 'passes' },
  { value: 'dav', label: 'WebDAV' },
]
const certificates = ref([{ value: '', label: 'by the name that is asked for' }])
onMounted(async () => {
  const page = await call<Schemas['CertificatePage']>('GET', '/certificates').catch(() => null)
  for (const c of page?.items ?? []) certificates.value.push({ value: c.name, label: c.name })
})
const list = (text: string) => text.split(/[\s,]+/).filter(Boolean)
const status = (field: string) => (wrong.field === field ? 'error' : undefined)

function settings(): Schemas['ListenerChange'] {
  const ask: Schemas['ListenerChange'] = { address: form.address, encryption: form.encryption, banner: form.banner, allow: list(form.allow), deny: list(form.deny) }
  ask.proxies = list(form.proxies)
  if (isWeb.value) return { ...ask, banner: undefined, certificate: form.certificate, faces: form.redirect ? [] : form.faces, hosts: list(form.hosts), redirect: form.redirect, forwarded: form.forwarded }
  if (!isFTP.value) return { ...ask, encryption: 'required' }
  const [low = '', high = ''] = form.passive.split('-')
  return {
    ...ask,
    certificate: form.certificate,
    passiveLow: Number(low) || 0,
    passiveHigh: Number(high) || 0,
    advertise: form.advertise,
    welcome: form.welcome,
    active: form.active,
    resumeData: form.resumeData,
    clientCertificates: form.clientCertificates,
  }
}

async function act(change: (meant: boolean) => Promise<unknown>, meant = false) {
  busy.value = true
  Object.assign(wrong, { field: '', say: '' })
  try {
    await change(meant)
    message.success('Done. It holds for new connections.')
    emit('changed')
  } catch (error) {
    const title = error instanceof Problem && { 'shuts-you-out': 'You would lock yourself out', 'in-clear': 'Passwords would go in clear' }[error.reason ?? '']
    if (title) {
      dialog.warning({ title, content: sentence(error), positiveText: 'I mean it', negativeText: 'Leave it', onPositiveClick: () => void act(change, true) })
      return
    }
    Object.assign(wrong, { field: error instanceof Problem ? error.field : '', say: sentence(error) })
  } finally {
    busy.value = false
  }
}
const path = `/listeners/${l?.name}`
const save = () =>
  act((meant) => (l ? call('PATCH', path, { ...settings(), meant }) : call('POST', '/listeners', { ...settings(), meant, name: form.name, protocol: form.protocol, address: form.address } satisfies Schemas['ListenerNew'])))
const stop = (stopped: boolean) => act((meant) => call('PATCH', path, { stopped, meant } satisfies Schemas['ListenerChange']))
const remove = () => act((meant) => call('DELETE', `${path}?meant=${meant}`))
</script>

<template>
  <DrawerFrame :title="l ? l.name : 'Add a listener'" @close="$emit('close')">
    <form class="form" @submit.prevent="save">
      <template v-if="!l">
        <label>Name<NInput v-model:value="form.name" autofocus placeholder="" :status="status('name')" :input-props="{ name: 'name' }" /></label>
        <label>Speaks<NSelect v-model:value="form.protocol" :options="protocols" :input-props="{ 'aria-label': 'Speaks' }" /></label>
      </template>
      <label>Address; without a host it is every address of the machine<NInput v-model:value="form.address" placeholder=":21" :status="status('address')" :input-props="{ name: 'address' }" /></label>
      <div class="two">
        <label>Only from these networks<NInput v-model:value="form.allow" placeholder="everybody" :status="status('allow')" :input-props="{ name: 'allow' }" /></label>
        <label>Not from these<NInput v-model:value="form.deny" placeholder="nobody" :status="status('deny')" :input-props="{ name: 'deny' }" /></label>
      </div>
      <label>From these proxies, which say for whom they come<NInput v-model:value="form.proxies" placeholder="none" :status="status('proxies')" :input-props="{ name: 'proxies' }" /></label>
      <template v-if="isWeb">
        <label v-if="form.proxies">Headers in which they say it; empty: the PROXY protocol<NInput v-model:value="form.forwarded" placeholder="x-forwarded-for,x-forwarded-proto" :input-props="{ name: 'forwarded' }" /></label>
        <div class="two">
          <label>Encryption<NSelect v-model:value="form.encryption" :options="webPolicies" :input-props="{ 'aria-label': 'Encryption' }" /></label>
          <label v-if="form.encryption === 'required'">Certificate<NSelect v-model:value="form.certificate" :options="certificates" :input-props="{ 'aria-label': 'Certificate' }" /></label>
          <label v-else>Send everything on to<NInput v-model:value="form.redirect" placeholder="nowhere" :status="status('redirect')" :input-props="{ name: 'redirect' }" /></label>
        </div>
        <fieldset v-if="!form.redirect || form.encryption === 'required'">
          <legend>Serves</legend>
          <NCheckboxGroup v-model:value="form.faces"><NCheckbox v-for="f in faces" :key="f.value" :value="f.value" :label="f.label" /></NCheckboxGroup>
        </fieldset>
        <label>Answers to these names<NInput v-model:value="form.hosts" placeholder="every name" :status="status('hosts')" :input-props="{ name: 'hosts' }" /></label>
      </template>
      <label v-else>Banner, before the sign-in<NInput v-model:value="form.banner" type="textarea" :rows="2" placeholder="" :status="status('banner')" :input-props="{ name: 'banner' }" /></label>
      <template v-if="isFTP">
        <label>Welcome, after it; {account} and {time} stand for themselves<NInput v-model:value="form.welcome" type="textarea" :rows="2" placeholder="" :status="status('welcome')" :input-props="{ name: 'welcome' }" /></label>
        <label v-if="form.protocol === 'ftp'">Encryption<NSelect v-model:value="form.encryption" :options="policies" :input-props="{ 'aria-label': 'Encryption' }" /></label>
        <label v-if="form.encryption !== 'off'">Certificate<NSelect v-model:value="form.certificate" :options="certificates" :input-props="{ 'aria-label': 'Certificate' }" /></label>
        <div class="two">
          <label>Passive ports<NInput v-model:value="form.passive" placeholder="47000-47099" :status="status('passive')" :input-props="{ name: 'passive' }" /></label>
          <label>Told to clients outside<NInput v-model:value="form.advertise" placeholder="the one they reached" :status="status('advertise')" :input-props="{ name: 'advertise' }" /></label>
        </div>
        <NCheckbox v-model:checked="form.active">Take active mode</NCheckbox>
        <NCheckbox v-model:checked="form.resumeData">Data connections must resume the TLS session</NCheckbox>
        <NCheckbox v-model:checked="form.clientCertificates">Ask for client certificates; their keys sign in as SSH keys do</NCheckbox>
      </template>
      <p class="wrong" role="alert">{{ wrong.say }}</p>
      <div v-if="mayChange" class="row">
        <NButton type="primary" attr-type="submit" :loading="busy" :disabled="!form.address || (!l && !form.name)">{{ l ? 'Save' : 'Add the listener' }}</NButton>
        <template v-if="l">
          <NButton v-if="l.stopped" :disabled="busy" @click="stop(false)">Start</NButton>
          <NButton v-else :disabled="busy" @click="stop(true)">Stop</NButton>
          <NPopconfirm @positive-click="remove">
            <template #trigger><NButton type="error" ghost :disabled="busy">Remove</NButton></template>
            New connections end here. Sessions that are open stay.
          </NPopconfirm>
        </template>
      </div>
    </form>
  </DrawerFrame>
</template>

<style scoped>
.form { display: grid; gap: 14px; }
.form fieldset { border: 0; padding: 0; margin: 0; }
.form legend { font-size: 13px; color: var(--soft); margin-bottom: 4px; padding: 0; }
.two { display: grid; grid-template-columns: repeat(auto-fit, minmax(180px, 1fr)); gap: 12px; align-items: end; }
</style>
