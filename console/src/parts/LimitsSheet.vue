<script setup lang="ts">
import { NButton, NInput, useMessage } from 'naive-ui'
import { onMounted, reactive } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'

type Limits = Schemas['ServiceLimits']
const props = defineProps<{ mayChange: boolean }>()
const message = useMessage()
const form = reactive({ values: {} as Record<keyof Limits, string>, wrong: '' })
const lines: { field: keyof Limits; text: string; unit: string }[] = [
  { field: 'failuresPerAddress', text: 'Failed sign-ins until an address is locked out', unit: '' },
  { field: 'failuresPerAccount', text: 'Failed sign-ins from addresses unknown to an account, until such may try once only', unit: '' },
  { field: 'within', text: 'Counted within', unit: 'seconds' },
  { field: 'lockout', text: 'A lockout lasts', unit: 'seconds' },
  { field: 'delay', text: 'A failed sign-in takes at least', unit: 'seconds' },
  { field: 'attempts', text: 'Passwords that one connection may try', unit: '' },
  { field: 'sessions', text: 'Sessions at once, in all', unit: '' },
  { field: 'sessionsPerAddress', text: 'Sessions at once of one address', unit: '' },
  { field: 'transfers', text: 'Files open for transfers at once, in all', unit: '' },
  { field: 'transfersPerAccount', text: 'Files open at once of one account', unit: '' },
  { field: 'deepListing', text: 'Files that one WebDAV listing of all folders may hold', unit: '' },
]
const show = (now: Limits) => lines.forEach((l) => (form.values[l.field] = String(now[l.field])))

onMounted(async () => {
  try {
    show(await call<Limits>('GET', '/limits'))
  } catch (error) {
    message.error(sentence(error))
  }
})

async function save() {
  form.wrong = ''
  const ask: Schemas['ServiceLimitsChange'] = {}
  for (const l of lines) ask[l.field] = Number(form.values[l.field])
  try {
    show(await call<Limits>('PATCH', '/limits', ask))
    message.success('Saved. It holds at once, for everybody.')
  } catch (error) {
    form.wrong = sentence(error)
  }
}
</script>

<template>
  <div id="limits" class="sheet">
    <header><h2>Limits</h2><span class="soft">what the service puts up with from everybody together; accounts and groups have limits of their own besides</span></header>
    <form class="limits" @submit.prevent="save">
      <label v-for="l in lines" :key="l.field">
        <span>{{ l.text }}<template v-if="l.unit">, {{ l.unit }}</template></span>
        <NInput v-model:value="form.values[l.field]" size="small" :disabled="!props.mayChange" :input-props="{ name: l.field, inputmode: 'numeric' }" />
      </label>
      <NButton v-if="props.mayChange" type="primary" attr-type="submit">Save the limits</NButton>
      <span class="wrong" role="alert">{{ form.wrong }}</span>
    </form>
  </div>
</template>

<style scoped>
.limits { display: grid; grid-template-columns: repeat(auto-fit, minmax(230px, 1fr)); gap: 10px 14px; padding: 12px 14px; align-items: end; }
.limits label { display: grid; gap: 4px; font-size: 13px; color: var(--soft); }
.wrong { color: var(--brick); grid-column: 1 / -1; }
.wrong:empty { display: none; }
</style>
