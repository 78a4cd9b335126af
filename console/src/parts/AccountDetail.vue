<script setup lang="ts">
import { NButton, NPopconfirm, useMessage } from 'naive-ui'
import { onMounted, ref, watch } from 'vue'
import { call, sentence, type Account, type Schemas } from '@/api/client'
import { minute, moment, zone } from '@/format'
import { useOperator } from '@/operator'
import AccountEdit from './AccountEdit.vue'
import AccountKeys from './AccountKeys.vue'
import AskAccount from './AskAccount.vue'
import DrawerFrame from './DrawerFrame.vue'
import InForce from './InForce.vue'
import OutcomeMark from './OutcomeMark.vue'
import ShownOnce from './ShownOnce.vue'

const props = defineProps<{ account: Account }>()
const emit = defineEmits<{ changed: []; deleted: [name: string]; close: [] }>()
const operator = useOperator()
const message = useMessage()
const busy = ref(false)
const password = ref('')
const editing = ref(false)
const full = ref(props.account) // with all its settings, which lists leave out

async function load() {
  try {
    full.value = await call<Account>('GET', path())
  } catch (error) {
    message.error(sentence(error))
  }
}
onMounted(load)
watch(() => props.account, load)
function saved() {
  editing.value = false
  message.success('Saved. It holds at once, for open sessions too.')
  emit('changed')
}

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
const generate = () =>
  act('', async () => {
    const made = await call<Schemas['AccountMade']>('PATCH', path(), { generate: true } satisfies Schemas['AccountChange'])
    password.value = made.password ?? ''
  })
const link = ref<Schemas['PasswordLink'] | null>(null)
const linkPassword = () =>
  act('', async () => {
    link.value = await call<Schemas['PasswordLink']>('POST', path() + '/password-link', { days: 3, mustChange: true } satisfies Schemas['PasswordLinkNew'])
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

    <AccountEdit v-if="editing" :account="full" @saved="saved" @cancel="editing = false" />
    <template v-else>
      <dl>
        <dt>Comes from</dt><dd>{{ account.source === 'own' ? 'the own records' : account.source }}</dd>
        <dt>Signs in by</dt><dd>{{ account.means }}<span v-if="account.plain">, also over FTP in clear</span><span v-if="account.mustChange">; must change its password</span></dd>
        <template v-if="account.groups.length"><dt>Groups</dt><dd><RouterLink v-for="g in account.groups" :key="g" :to="`/groups/${g}`" class="group">{{ g }}</RouterLink></dd></template>
        <template v-if="account.mail"><dt>E-mail</dt><dd>{{ account.mail }}</dd></template>
        <dt>Live sessions</dt><dd>{{ account.sessions }}</dd>
        <dt>Last sign-in</dt><dd>{{ moment(account.lastSignIn) }}</dd>
        <dt>Changed</dt><dd>{{ moment(account.changed) }}</dd>
      </dl>

      <InForce :now="full.inForce" />
      <AskAccount :account="account.name" :may-change="operator.mayChange()" />
      <AccountKeys :account="account.name" :may-change="operator.mayChange()" @changed="$emit('changed')" />
      <ShownOnce v-if="password" :say="`The password of ${account.name}`" :secret="password" />

      <p v-if="link" class="link">This link shows its new password once, until {{ minute(link.expires) }} {{ zone }}:<br /><code class="mono">{{ link.link }}</code><template v-if="link.shut"><br />But {{ link.shut }}.</template></p>

      <RouterLink :to="`/handover/${account.name}`">Hand-over sheet for whoever will connect</RouterLink>
      <div v-if="operator.mayChange()" class="row">
        <NButton type="primary" :disabled="busy" @click="editing = true">Change</NButton>
        <NButton v-if="account.state === 'active'" :loading="busy" @click="suspend">Suspend</NButton>
        <NButton v-else :loading="busy" @click="resume">Resume</NButton>
        <NPopconfirm @positive-click="generate">
          <template #trigger><NButton :disabled="busy">New password</NButton></template>
          The password it has now will no longer work.
        </NPopconfirm>
        <NPopconfirm @positive-click="linkPassword">
          <template #trigger><NButton :disabled="busy">Password by link</NButton></template>
          It gets a new password, which a link shows once. The one it has now will no longer work.
        </NPopconfirm>
        <NPopconfirm @positive-click="remove">
          <template #trigger><NButton type="error" ghost :disabled="busy">Delete</NButton></template>
          Its sessions end and its keys go. Its files stay.
        </NPopconfirm>
      </div>
    </template>
  </DrawerFrame>
</template>

<style scoped>
.note { margin: 0; }
.link { margin: 0; background: var(--copper-wash); border-left: 3px solid var(--copper); padding: 10px 14px; }
dl { margin: 0; display: grid; grid-template-columns: 120px 1fr; gap: 5px 12px; }
dt { color: var(--soft); }
dd { margin: 0; }
.group { margin-right: 10px; }
</style>
