<script setup lang="ts">
import { NButton, NInput, useDialog, useMessage } from 'naive-ui'
import { computed, onMounted, reactive, ref } from 'vue'
import { call, Problem, sentence, type Account, type Schemas } from '@/api/client'
import { useOperator } from '@/operator'
import LimitsSheet from '@/parts/LimitsSheet.vue'
import LockoutSheet from '@/parts/LockoutSheet.vue'
import TableFrame from '@/parts/TableFrame.vue'

const message = useMessage()
const dialog = useDialog()
const mayChange = useOperator().mayChange()
const form = reactive({ allow: '', deny: '', wrong: '' })
const listeners = ref<Schemas['Listener'][]>([])
const groups = ref<Schemas['Group'][]>([])
const accounts = ref<Account[]>([])

type Rule = { who: string; to: string; allow: string; deny: string }
const text = (networks: Schemas['Settings']['allow']) => (Array.isArray(networks) ? networks.join(', ') : (networks ?? ''))
const rules = computed<Rule[]>(() => {
  const own = (kind: string, path: string, things: { name: string; settings: Schemas['Settings'] }[]) =>
    things
      .filter((t) => t.settings.allow || t.settings.deny)
      .map((t) => ({ who: `${kind} ${t.name}`, to: `${path}/${t.name}`, allow: text(t.settings.allow), deny: text(t.settings.deny) }))
  return [
    ...listeners.value.map((l) => ({ who: `listener ${l.name}`, to: `/settings/${l.name}`, allow: l.allow.join(', '), deny: l.deny.join(', ') })),
    ...own('group', '/groups', groups.value),
    ...own('account', '/accounts', accounts.value),
  ]
})

async function load() {
  try {
    const gate = await call<Schemas['Gate']>('GET', '/gate')
    Object.assign(form, { allow: gate.allow.join(', '), deny: gate.deny.join(', ') })
    listeners.value = (await call<Schemas['ListenerPage']>('GET', '/listeners')).items
    groups.value = (await call<Schemas['GroupPage']>('GET', '/groups?limit=1000&sets=allow,deny')).items
    accounts.value = (await call<Schemas['AccountPage']>('GET', '/accounts?limit=1000&sets=allow,deny')).items
  } catch (error) {
    message.error(sentence(error))
  }
}
onMounted(load)

const networks = (text: string) => text.split(/[\s,]+/).filter(Boolean)
async function save(meant = false) {
  form.wrong = ''
  try {
    await call('PUT', '/gate', { allow: networks(form.allow), deny: networks(form.deny), meant } satisfies Schemas['Gate'])
    message.success('Saved. It holds for new connections; sessions that are open stay.')
    await load()
  } catch (error) {
    if (error instanceof Problem && error.status === 409) {
      dialog.warning({ title: 'You would lock yourself out', content: sentence(error), positiveText: 'I mean it', negativeText: 'Leave it', onPositiveClick: () => void save(true) })
      return
    }
    form.wrong = sentence(error)
  }
}
</script>

<template>
  <section class="page">
    <div class="head"><h1>Gate</h1><span class="soft">who may connect, before anybody signs in</span></div>
    <div class="sheet">
      <header><h2>The whole service</h2><span class="soft">every listener and this console; the control socket stays open to the machine's administrator</span></header>
      <form class="form" @submit.prevent="save()">
        <label>Only from these networks<NInput v-model:value="form.allow" :disabled="!mayChange" placeholder="everybody" :input-props="{ name: 'allow', spellcheck: false }" /></label>
        <label>Never from these<NInput v-model:value="form.deny" :disabled="!mayChange" placeholder="nobody" :input-props="{ name: 'deny', spellcheck: false }" /></label>
        <NButton v-if="mayChange" type="primary" attr-type="submit">Save</NButton>
        <span class="wrong" role="alert">{{ form.wrong }}</span>
      </form>
    </div>
    <div class="sheet">
      <header><h2>Rules of listeners, groups and accounts</h2><span class="soft">each must let an address in too</span></header>
      <TableFrame label="Rules">
        <thead><tr><th>Of</th><th>Only from</th><th>Never from</th></tr></thead>
        <tbody>
          <tr v-for="r in rules" :key="r.who"><td><RouterLink :to="r.to">{{ r.who }}</RouterLink></td><td class="mono">{{ r.allow || 'everybody' }}</td><td class="mono">{{ r.deny || 'nobody' }}</td></tr>
        </tbody>
      </TableFrame>
    </div>
    <LockoutSheet :may-change="mayChange" />
    <LimitsSheet :may-change="mayChange" />
  </section>
</template>

<style scoped>
.form { display: grid; grid-template-columns: repeat(auto-fit, minmax(200px, 1fr)); gap: 10px 14px; padding: 12px 14px; align-items: end; }
.form label { display: grid; gap: 4px; font-size: 13px; color: var(--soft); }
.wrong { color: var(--brick); grid-column: 1 / -1; }
.wrong:empty { display: none; }
</style>
