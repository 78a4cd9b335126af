<script setup lang="ts">
import { NButton, NCheckbox, NInput } from 'naive-ui'
import { onMounted, reactive, ref } from 'vue'
import { call, Problem, sentence, type Account, type Schemas } from '@/api/client'
import GroupSelect from './GroupSelect.vue'
import SettingsForm from './SettingsForm.vue'
import TreeForm from './TreeForm.vue'
import { changed, textsOf } from './settings'
import { grantRow, grantText, mountRow, mountText } from './tree'

const props = defineProps<{ account: Account }>()
const emit = defineEmits<{ saved: []; cancel: [] }>()
const known = ref<Schemas['SettingPage']['items']>([])
const own = textsOf((props.account.inForce.settings ?? []).filter((s) => s.from === 'account'))
const form = reactive({
  note: props.account.note,
  mail: props.account.mail,
  mustChange: props.account.mustChange,
  groups: [...props.account.groups],
  mounts: props.account.mounts.map(mountRow),
  grants: props.account.grants.map(grantRow),
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
  try {
    await call('PATCH', `/accounts/${props.account.name}`, {
      note: form.note, mail: form.mail, mustChange: form.mustChange, groups: form.groups,
      mounts: form.mounts.map(mountText), grants: form.grants.map(grantText), settings: changed(own, texts.value),
    } satisfies Schemas['AccountChange'])
    emit('saved')
  } catch (error) {
    wrong.value = (error instanceof Problem && error.field ? error.field + ': ' : '') + sentence(error)
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <form class="form" @submit.prevent="save">
    <label>Note for operators<NInput v-model:value="form.note" size="small" placeholder="" :input-props="{ name: 'note' }" /></label>
    <label>E-mail address of who uses it<NInput v-model:value="form.mail" size="small" placeholder="" :input-props="{ name: 'mail' }" /></label>
    <GroupSelect v-model="form.groups" label="Groups, in the order in which they decide" size="small" />
    <NCheckbox v-if="account.hasPassword" v-model:checked="form.mustChange">Must change its password at the next sign-in, over SFTP</NCheckbox>
    <TreeForm v-model:mounts="form.mounts" v-model:grants="form.grants" />
    <SettingsForm v-model="texts" :known="known" :in-force="account.inForce.settings" />
    <p class="wrong" role="alert">{{ wrong }}</p>
    <div class="row"><NButton type="primary" attr-type="submit" :loading="busy">Save; it holds at once</NButton><NButton @click="$emit('cancel')">Cancel</NButton></div>
  </form>
</template>

<style scoped>
.form { display: grid; gap: 14px; }
</style>
