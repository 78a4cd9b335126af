<script setup lang="ts">
import { NButton, NInput, NPopconfirm, useMessage } from 'naive-ui'
import { onMounted, reactive, ref } from 'vue'
import { call, Problem, sentence, type Schemas } from '@/api/client'
import DrawerFrame from './DrawerFrame.vue'
import SettingsForm from './SettingsForm.vue'
import TreeForm from './TreeForm.vue'
import { changed, textsOf } from './settings'
import { grantRow, grantText, mountRow, mountText } from './tree'

// A group to be changed or, without one, a new one.
const props = defineProps<{ group?: Schemas['Group']; mayChange: boolean }>()
const emit = defineEmits<{ saved: [name: string]; deleted: []; close: [] }>()
const message = useMessage()
const known = ref<Schemas['SettingPage']['items']>([])
const own = textsOf(props.group?.sets ?? [])
const form = reactive({
  name: props.group?.name ?? '',
  note: props.group?.note ?? '',
  mounts: (props.group?.mounts ?? []).map(mountRow),
  grants: (props.group?.grants ?? []).map(grantRow),
})
const texts = ref({ ...own })
const wrong = ref('')
const busy = ref(false)

onMounted(async () => {
  try {
    known.value = (await call<Schemas['SettingPage']>('GET', '/settings')).items
  } catch (error) {
    wrong.value = sentence(error)
  }
})

async function save() {
  busy.value = true
  wrong.value = ''
  const ask = { note: form.note, mounts: form.mounts.map(mountText), grants: form.grants.map(grantText), settings: changed(own, texts.value) }
  try {
    if (props.group) await call('PATCH', `/groups/${props.group.name}`, ask satisfies Schemas['GroupChange'])
    else await call('POST', '/groups', { name: form.name, ...ask } satisfies Schemas['GroupNew'])
    message.success(`Saved. It holds for ${props.group?.members ?? 0} accounts at once.`)
    emit('saved', form.name)
  } catch (error) {
    wrong.value = (error instanceof Problem && error.field ? error.field + ': ' : '') + sentence(error)
  } finally {
    busy.value = false
  }
}

async function remove() {
  try {
    await call('DELETE', `/groups/${form.name}`)
    emit('deleted')
  } catch (error) {
    wrong.value = sentence(error)
  }
}
</script>

<template>
  <DrawerFrame :title="group?.name ?? 'Add a group'" @close="$emit('close')">
    <p v-if="group" class="soft members">
      {{ group.members ? 'In it:' : 'No account is in it.' }}
      <RouterLink v-for="a in group.accounts" :key="a" :to="`/accounts/${a}`">{{ a }}</RouterLink>
      <span v-if="group.members > group.accounts.length"> and {{ (group.members - group.accounts.length).toLocaleString('en') }} more</span>
    </p>
    <form class="form" @submit.prevent="save">
      <label v-if="!group">Name<NInput v-model:value="form.name" autofocus placeholder="" :input-props="{ name: 'name', autocomplete: 'off' }" /></label>
      <label>Note for operators<NInput v-model:value="form.note" size="small" placeholder="" :input-props="{ name: 'note' }" /></label>
      <TreeForm v-model:mounts="form.mounts" v-model:grants="form.grants" />
      <SettingsForm v-model="texts" :known="known" />
      <p class="wrong" role="alert">{{ wrong }}</p>
      <div v-if="mayChange" class="row">
        <NButton type="primary" attr-type="submit" :loading="busy" :disabled="!form.name">{{ group ? 'Save; it holds for its accounts at once' : 'Add the group' }}</NButton>
        <NPopconfirm v-if="group" @positive-click="remove">
          <template #trigger><NButton type="error" ghost :disabled="busy">Delete</NButton></template>
          Only a group that no account is in can be deleted.
        </NPopconfirm>
      </div>
    </form>
  </DrawerFrame>
</template>

<style scoped>
.form { display: grid; gap: 14px; }
.members { margin: 0; }
.members a { margin-left: 8px; }
</style>
