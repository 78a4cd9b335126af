<script setup lang="ts">
import { NButton, NPopconfirm, NSelect, useMessage } from 'naive-ui'
import { ref } from 'vue'
import { call, sentence, type Account, type Schemas } from '@/api/client'
import { minute, moment, size } from '@/format'
import { useOperator } from '@/operator'
import { proofs } from './account'
import AccountKeys from './AccountKeys.vue'
import DrawerFrame from './DrawerFrame.vue'
import OutcomeMark from './OutcomeMark.vue'
import ShownOnce from './ShownOnce.vue'

const props = defineProps<{ account: Account }>()
const emit = defineEmits<{ changed: []; deleted: [name: string]; close: [] }>()
const operator = useOperator()
const message = useMessage()
const busy = ref(false)
const password = ref('')

// act runs one change and says how it went.
async function act(say: string, change: () => Promise<unknown>): Promise<boolean> {
  busy.value = true
  try {
    await change()
    if (say) message.success(say)
    emit('changed')
    return true
  } catch (error) {
    message.error(sentence(error))
    return false
  } finally {
    busy.value = false
  }
}

const path = () => `/accounts/${props.account.name}`
const suspend = () => act(`${props.account.name} is suspended; its sessions were ended.`, () => call('POST', path() + '/suspend'))
const resume = () => act(`${props.account.name} may sign in again.`, () => call('POST', path() + '/resume'))
const require = (signInBy: Account['signInBy']) =>
  act('Changed. It counts from the next sign-in on.', () => call('PATCH', path(), { signInBy } satisfies Schemas['AccountChange']))
const generate = () =>
  act('', async () => {
    const made = await call<Schemas['AccountMade']>('PATCH', path(), { generate: true } satisfies Schemas['AccountChange'])
    password.value = made.password ?? ''
  })
async function remove() {
  try {
    await call('DELETE', path())
    emit('deleted', props.account.name)
  } catch (error) {
    message.error(sentence(error))
  }
}
</script>

<template>
  <DrawerFrame :title="account.name" @close="$emit('close')">
    <template #beside><OutcomeMark :outcome="account.state" /></template>
    <p v-if="account.note" class="note">{{ account.note }}</p>

    <dl>
      <dt>Signs in by</dt><dd>{{ account.means }}<span v-if="account.allowPlain">, also over FTP in clear</span></dd>
      <template v-if="operator.mayChange()">
        <dt>Must show</dt>
        <dd><NSelect size="small" :value="account.signInBy" :options="proofs" :disabled="busy" :input-props="{ 'aria-label': 'Must show' }" @update:value="require" /></dd>
      </template>
      <template v-if="account.validFrom || account.validUntil">
        <dt>Valid</dt><dd>{{ account.validFrom ? `from ${minute(account.validFrom)} ` : '' }}{{ account.validUntil ? `until ${minute(account.validUntil)} UTC` : '' }}</dd>
      </template>
      <dt>Live sessions</dt><dd>{{ account.sessions }}<span v-if="account.maxSessions"> of at most {{ account.maxSessions }}</span></dd>
      <template v-if="account.maxUpload"><dt>Largest upload</dt><dd>{{ size(account.maxUpload) }}</dd></template>
      <dt>Last sign-in</dt><dd>{{ moment(account.lastSignIn) }}</dd>
      <dt>Created</dt><dd>{{ moment(account.created) }}</dd>
      <dt>Changed</dt><dd>{{ moment(account.changed) }}</dd>
    </dl>

    <div>
      <h2>Tree</h2>
      <table aria-label="Mounts">
        <thead><tr><th>Path</th><th>From</th><th>Mode</th></tr></thead>
        <tbody>
          <tr v-for="m in account.mounts" :key="m.at"><td class="mono">{{ m.at }}</td><td class="mono">{{ m.store }}:{{ m.folder }}</td><td>{{ m.readOnly ? 'read-only' : '' }}</td></tr>
        </tbody>
      </table>
    </div>

    <div>
      <h2>Grants</h2>
      <table aria-label="Grants">
        <thead><tr><th>On</th><th>Rights</th></tr></thead>
        <tbody>
          <tr v-for="g in account.grants" :key="g.path"><td class="mono">{{ g.path }}</td><td class="rights">{{ g.rights.replaceAll(',', ', ') }}</td></tr>
        </tbody>
      </table>
    </div>

    <AccountKeys :account="account.name" :may-change="operator.mayChange()" @changed="$emit('changed')" />
    <ShownOnce v-if="password" :say="`The password of ${account.name}`" :secret="password" />

    <div v-if="operator.mayChange()" class="row">
      <NButton v-if="account.state === 'active'" :loading="busy" @click="suspend">Suspend</NButton>
      <NButton v-else type="primary" :loading="busy" @click="resume">Resume</NButton>
      <NPopconfirm @positive-click="generate">
        <template #trigger><NButton :disabled="busy">New password</NButton></template>
        The password it has now will no longer work.
      </NPopconfirm>
      <NPopconfirm @positive-click="remove">
        <template #trigger><NButton type="error" ghost :disabled="busy">Delete</NButton></template>
        Its sessions end and its keys go. Its files stay.
      </NPopconfirm>
    </div>
  </DrawerFrame>
</template>

<style scoped>
.note { margin: 0; }
dl { margin: 0; display: grid; grid-template-columns: 120px 1fr; gap: 5px 12px; }
dt { color: var(--soft); }
dd { margin: 0; }
.rights { white-space: normal; }
td:first-child, th:first-child { padding-left: 0; }
</style>
