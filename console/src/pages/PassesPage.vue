<script setup lang="ts">
import { NButton, NPopconfirm, useMessage } from 'naive-ui'
import { computed, onMounted, ref, watch } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import { minute, size, visible, zone } from '@/format'
import { useOperator } from '@/operator'
import PassForm from '@/parts/PassForm.vue'
import TableFrame from '@/parts/TableFrame.vue'

const message = useMessage()
const mayChange = useOperator().mayChange()
const passes = ref<Schemas['Pass'][]>([])
const next = ref('')
const ended = ref(false)
const adding = ref(false)
const read = ref(false)
const uses = ref<{ of: string; items: Schemas['PassUse'][] } | null>(null)
const bare = computed(() => passes.value.filter((p) => p.open && !p.password).length)

async function load(more = false) {
  try {
    const query = new URLSearchParams({ ended: String(ended.value), after: more ? next.value : '' })
    const page = await call<Schemas['PassPage']>('GET', '/passes?' + query)
    passes.value = more ? [...passes.value, ...page.items] : page.items
    next.value = page.next ?? ''
    read.value = true
  } catch (error) {
    message.error(sentence(error))
  }
}
onMounted(load)
watch(ended, () => load())
async function end(p: Schemas['Pass']) {
  try {
    await call('DELETE', `/passes/${p.id}`)
    message.success('The pass has ended.')
  } catch (error) {
    message.error(sentence(error))
  }
  await load()
}
async function look(p: Schemas['Pass']) {
  if (uses.value?.of === p.id) return void (uses.value = null)
  try {
    uses.value = { of: p.id, items: (await call<Schemas['PassUsePage']>('GET', `/passes/${p.id}/uses`)).items }
  } catch (error) {
    message.error(sentence(error))
  }
}
const ends = (p: Schemas['Pass']) => (p.ended ? `ended ${minute(p.ended)}` : p.open || new Date(p.expires) < new Date() ? minute(p.expires) : `${minute(p.expires)}, used up`)
</script>

<template>
  <section class="page">
    <div class="head"><h1>Passes</h1><span class="soft">what is open to people without an account{{ bare ? `; ${bare} without a password` : '' }}</span><NButton v-if="mayChange && !adding" type="primary" @click="adding = true">Make a pass</NButton></div>
    <div class="sheet">
      <PassForm v-if="adding" @made="load()" @close="adding = false" />
      <header><h2>Open to outsiders</h2><label class="soft"><input v-model="ended" type="checkbox" name="ended" /> also those that ended in the last 90 days</label></header>
      <TableFrame label="Passes">
        <thead><tr><th>Account</th><th>For</th><th>Paths</th><th>Password</th><th>Ends, {{ zone }}</th><th class="number">Uses</th><th class="number">Moved</th><th>Last used</th><th>Made by</th><th>Note</th><th><span class="soft">Change</span></th></tr></thead>
        <tbody>
          <template v-for="p in passes" :key="p.id">
            <tr :class="{ over: !p.open }">
              <td><RouterLink :to="`/accounts/${p.account}`">{{ p.account }}</RouterLink></td>
              <td>{{ p.kind }}</td>
              <td class="path" :title="p.paths.join('\n')">{{ visible(p.paths.join(', ')) }}</td>
              <td>{{ p.password ? 'yes' : 'no' }}</td>
              <td>{{ ends(p) }}</td>
              <td class="number">{{ p.uses }}{{ p.maxUses ? ` of ${p.maxUses}` : '' }}</td>
              <td class="number">{{ size(p.bytes) }}</td>
              <td>{{ minute(p.lastUsed ?? undefined) }}</td>
              <td>{{ p.by || 'its holder' }}</td>
              <td class="cut" :title="p.note">{{ p.note }}</td>
              <td class="deeds">
                <button v-if="p.uses" class="plain" :aria-expanded="uses?.of === p.id" :aria-label="`Who used ${p.id}`" @click="look(p)">Who used it</button>
                <NPopconfirm v-if="mayChange && !p.ended && p.open" @positive-click="end(p)">
                  <template #trigger><button class="plain" :aria-label="`End ${p.id}`">End it</button></template>
                  Its link stops working, and what is moved with it stops now.
                </NPopconfirm>
              </td>
            </tr>
            <tr v-if="uses?.of === p.id">
              <td colspan="11">
                <ul class="uses"><li v-for="u in uses.items" :key="u.session">{{ minute(u.began) }} from {{ u.address }}: {{ u.files }} {{ u.files === 1 ? 'file' : 'files' }}, {{ size(u.bytes) }}<template v-if="u.name"> by {{ visible(u.name) }}{{ u.mail ? ` <${u.mail}>` : '' }}</template><q v-if="u.message">{{ visible(u.message) }}</q> <RouterLink :to="{ name: 'audit', query: { session: u.session } }">records</RouterLink></li></ul>
              </td>
            </tr>
          </template>
        </tbody>
      </TableFrame>
      <p v-if="read && !passes.length" class="none">Nothing is open to outsiders.</p>
      <p v-if="next" class="none"><button class="plain" @click="load(true)">Show more</button></p>
    </div>
  </section>
</template>

<style scoped>
.over td { color: var(--soft); }
.deeds button + button { margin-left: 14px; }
.uses { margin: 0; padding: 0 0 4px 14px; list-style: none; white-space: normal; }
q { display: block; white-space: pre-line; border-left: 3px solid var(--copper); padding-left: 10px; quotes: none; }
header label { display: flex; gap: 6px; align-items: center; margin-left: auto; }
</style>
