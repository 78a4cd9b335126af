<script setup lang="ts">
import { NButton, NCheckbox, NInput, NPopconfirm, NSelect, useMessage } from 'naive-ui'
import { computed, reactive, ref } from 'vue'
import { call, Problem, sentence, type Schemas } from '@/api/client'
import DrawerFrame from './DrawerFrame.vue'

type Listener = Schemas['Listener']
const props = defineProps<{ listener?: Listener; mayChange: boolean }>()
const emit = defineEmits<{ changed: []; close: [] }>()
const message = useMessage()
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
})
const wrong = reactive({ field: '', say: '' })
const busy = ref(false)
const isFTP = computed(() => form.protocol !== 'sftp')
const protocols = [
  { value: 'ftp', label: 'FTP, TLS on request' },
  { value: 'ftps', label: 'FTP over TLS from the first byte' },
  { value: 'sftp', label: 'SFTP' },
]
const policies = [
  { value: 'required', label: 'required' },
  { value: 'optional', label: 'optional: passwords may go in clear' },
  { value: 'off', label: 'off: everything goes in clear' },
]
const list = (text: string) => text.split(/[\s,]+/).filter(Boolean)
const status = (field: string) => (wrong.field === field ? 'error' : undefined)

function settings(): Schemas['ListenerChange'] {
  const ask: Schemas['ListenerChange'] = { address: form.address, encryption: form.encryption, banner: form.banner, allow: list(form.allow), deny: list(form.deny) }
  if (!isFTP.value) return { ...ask, encryption: 'required' }
  const [low = '', high = ''] = form.passive.split('-')
  return {
    ...ask,
    passiveLow: Number(low) || 0,
    passiveHigh: Number(high) || 0,
    advertise: form.advertise,
    welcome: form.welcome,
    active: form.active,
    resumeData: form.resumeData,
    clientCertificates: form.clientCertificates,
  }
}

async function act(change: () => Promise<unknown>) {
  busy.value = true
  Object.assign(wrong, { field: '', say: '' })
  try {
    await change()
    message.success('Done. It holds for new connections.')
    emit('changed')
  } catch (error) {
    Object.assign(wrong, { field: error instanceof Problem ? error.field : '', say: sentence(error) })
  } finally {
    busy.value = false
  }
}
const path = `/listeners/${l?.name}`
const save = () =>
  act(() => (l ? call('PATCH', path, settings()) : call('POST', '/listeners', { ...settings(), name: form.name, protocol: form.protocol, address: form.address } satisfies Schemas['ListenerNew'])))
const stop = (stopped: boolean) => act(() => call('PATCH', path, { stopped } satisfies Schemas['ListenerChange']))
const remove = () => act(() => call('DELETE', path))
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
      <label>Banner, before the sign-in<NInput v-model:value="form.banner" type="textarea" :rows="2" placeholder="" :status="status('banner')" :input-props="{ name: 'banner' }" /></label>
      <template v-if="isFTP">
        <label>Welcome, after it; {account} and {time} stand for themselves<NInput v-model:value="form.welcome" type="textarea" :rows="2" placeholder="" :status="status('welcome')" :input-props="{ name: 'welcome' }" /></label>
        <label v-if="form.protocol === 'ftp'">Encryption<NSelect v-model:value="form.encryption" :options="policies" :input-props="{ 'aria-label': 'Encryption' }" /></label>
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
.two { display: grid; grid-template-columns: repeat(auto-fit, minmax(180px, 1fr)); gap: 12px; align-items: end; }
</style>
