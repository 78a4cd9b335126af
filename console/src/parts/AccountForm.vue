<script setup lang="ts">
import { NButton, NCheckbox, NInput, NSelect } from 'naive-ui'
import { reactive, ref } from 'vue'
import { call, Problem, sentence, type Account, type Schemas } from '@/api/client'
import { bundles, proofs } from './account'
import DrawerFrame from './DrawerFrame.vue'
import GroupSelect from './GroupSelect.vue'
import ShownOnce from './ShownOnce.vue'

// The brief one asks for what a first account needs; the rest is a button away.
const props = defineProps<{ brief?: boolean }>()
const emit = defineEmits<{ added: [account: Account]; close: [] }>()
const whole = ref(!props.brief)
const form = reactive({ name: '', note: '', home: 'files:{account}', rights: 'full', generate: true, signInBy: '', groups: [] as string[], key: '', plain: false, mustChange: false })
const groups = ref<Schemas['Group'][]>([])

// joined: where a group brings a home and rights, none of its own are proposed.
function joined(names: string[]) {
  form.groups = names
  const brings = names.some((n) => groups.value.find((g) => g.name === n)?.mounts.some((m) => m.at === '/'))
  form.home = brings ? '' : form.home || 'files:{account}'
  form.rights = brings ? '' : form.rights || 'full'
}
const wrong = reactive({ field: '', say: '' })
const busy = ref(false)
const made = ref<Schemas['AccountMade'] | null>(null)

async function add() {
  busy.value = true
  Object.assign(wrong, { field: '', say: '' })
  try {
    const [store = '', folder = ''] = form.home.split(/:(.*)/s)
    const ask: Schemas['AccountNew'] = {
      name: form.name,
      note: form.note,
      generate: form.generate,
      mustChange: form.generate && form.mustChange,
      key: form.key,
      groups: form.groups,
      settings: { ...(form.signInBy && { signInBy: form.signInBy as Account['signInBy'] }), ...(form.plain && { encryption: 'optional' as const }) },
      mounts: form.home ? [{ at: '/', store, folder, readOnly: false }] : [],
      grants: form.rights ? [{ path: '/', rights: form.rights }] : [],
    }
    const answer = await call<Schemas['AccountMade']>('POST', '/accounts', ask)
    if (answer.password) made.value = answer
    else emit('added', answer.account)
  } catch (error) {
    Object.assign(wrong, { field: error instanceof Problem ? error.field : '', say: sentence(error) })
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <DrawerFrame title="Add an account" @close="$emit('close')">
    <template v-if="made">
      <ShownOnce v-if="made.password" :say="`The password of ${made.account.name}`" :secret="made.password" />
      <div class="row"><NButton type="primary" @click="emit('added', made.account)">I have it</NButton></div>
    </template>
    <form v-else class="form" @submit.prevent="add">
      <label>Name<NInput v-model:value="form.name" autofocus placeholder="" :status="wrong.field === 'name' ? 'error' : undefined" :input-props="{ name: 'name', autocomplete: 'off' }" /></label>
      <label>Note for operators<NInput v-model:value="form.note" placeholder="" :input-props="{ name: 'note' }" /></label>
      <template v-if="whole">
        <GroupSelect :model-value="form.groups" label="Groups, in the order in which they decide" @known="(all) => (groups = all)" @update:model-value="joined" />
        <label>Home: store and folder in it; {account} stands for the name<NInput v-model:value="form.home" placeholder="the group's" :status="wrong.field === 'home' ? 'error' : undefined" :input-props="{ name: 'home' }" /></label>
        <label>Rights in its home<NSelect :value="form.rights || null" :options="bundles" filterable tag clearable placeholder="the group's" @update:value="(v: string | null) => (form.rights = v ?? '')" :input-props="{ 'aria-label': 'Rights in its home' }" /></label>
        <label>To sign in it must show<NSelect :value="form.signInBy || null" :options="proofs" clearable placeholder="as its groups say; else a password or a key" @update:value="(v: string | null) => (form.signInBy = v ?? '')" :input-props="{ 'aria-label': 'To sign in it must show' }" /></label>
      </template>
      <label>SSH public key, if it has one<NInput v-model:value="form.key" type="textarea" :rows="3" placeholder="ssh-ed25519 …" :status="wrong.field === 'key' ? 'error' : undefined" :input-props="{ name: 'key' }" /></label>
      <NCheckbox v-model:checked="form.generate">Generate a password and show it once</NCheckbox>
      <template v-if="whole">
        <NCheckbox v-model:checked="form.mustChange" :disabled="!form.generate">It must change that password at its first sign-in, over SFTP</NCheckbox>
        <NCheckbox v-model:checked="form.plain">May sign in over FTP without TLS: its password goes in clear</NCheckbox>
      </template>
      <p v-else class="soft">Its home is {{ form.home }}, and it may do everything there. <button type="button" class="plain" @click="whole = true">Groups, home, rights and more</button></p>
      <p class="wrong" role="alert">{{ wrong.say }}</p>
      <div class="row"><NButton type="primary" attr-type="submit" :loading="busy" :disabled="!form.name">Add the account</NButton></div>
    </form>
  </DrawerFrame>
</template>

<style scoped>
.form { display: grid; gap: 14px; }
</style>
