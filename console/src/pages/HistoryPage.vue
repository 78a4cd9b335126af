<script setup lang="ts">
import { NButton, NPopconfirm, NSelect, useMessage } from 'naive-ui'
import { onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { call, sentence, type Schemas } from '@/api/client'
import { minute, visible, zone } from '@/format'
import { useOperator } from '@/operator'
import TableFrame from '@/parts/TableFrame.vue'

const route = useRoute()
const router = useRouter()
const message = useMessage()
const mayChange = useOperator().mayChange()
const changes = ref<Schemas['Change'][]>([])
const next = ref<string | undefined>()
const loaded = ref(false)
const kinds = ['account', 'group', 'listener', 'store', 'store-grounds', 'gate', 'retention', 'collector', 'service'].map((k) => ({ label: k, value: k }))

async function load(before = '') {
  const query = new URLSearchParams({ limit: '50', before })
  if (typeof route.query.what === 'string') query.set('what', route.query.what)
  if (typeof route.query.name === 'string') query.set('name', route.query.name)
  try {
    const page = await call<Schemas['ChangePage']>('GET', `/changes?${query}`)
    changes.value = before ? [...changes.value, ...page.items] : page.items
    next.value = page.next
  } catch (error) {
    message.error(sentence(error))
  }
  loaded.value = true
}
onMounted(load)
watch(() => route.fullPath, () => load())

async function undo(c: Schemas['Change']) {
  try {
    const made = await call<Schemas['Change']>('POST', `/changes/${c.id}/undo`)
    message.success(`Change ${c.id} was taken back by change ${made.id}.`)
    await load()
  } catch (error) {
    message.error(sentence(error), { duration: 8000, closable: true })
  }
}
</script>

<template>
  <section class="page">
    <div class="head">
      <h1>Changes</h1><span class="soft">of the settings: who, when, before and after</span>
      <NSelect class="kind" clearable placeholder="of everything" :options="kinds" :value="typeof route.query.what === 'string' ? route.query.what : null" :input-props="{ 'aria-label': 'Of what' }" @update:value="(what: string | null) => router.push({ query: what ? { what } : {} })" />
    </div>
    <div class="sheet">
      <TableFrame v-if="changes.length" label="Changes">
        <thead><tr><th class="number">Change</th><th>Time, {{ zone }}</th><th>Operator</th><th>Of</th><th>Before → after</th><th><span class="soft">Take back</span></th></tr></thead>
        <tbody>
          <tr v-for="c in changes" :key="c.id">
            <td class="number">{{ c.id }}</td>
            <td>{{ minute(c.at) }}</td>
            <td>{{ c.operator }}</td>
            <td><RouterLink v-if="c.name" :to="{ query: { what: c.what, name: c.name } }">{{ c.what }} {{ visible(c.name) }}</RouterLink><template v-else>{{ c.what }}</template></td>
            <td class="what">
              <div v-for="d in c.says" :key="d">{{ visible(d) }}</div>
              <div v-if="c.undoes" class="soft">took change {{ c.undoes }} back</div>
              <div v-if="c.undoneBy" class="soft">taken back by change {{ c.undoneBy }}</div>
            </td>
            <td>
              <NPopconfirm v-if="mayChange && !c.undoneBy" @positive-click="undo(c)">
                <template #trigger><button class="plain" :aria-label="`Undo change ${c.id}`">Undo</button></template>
                What this change changed becomes as it was before. What else changed since stays.
              </NPopconfirm>
            </td>
          </tr>
        </tbody>
      </TableFrame>
      <p v-else-if="loaded" class="none">No operator has changed anything of it yet.</p>
    </div>
    <div v-if="next"><NButton @click="load(next)">Show earlier ones</NButton></div>
  </section>
</template>

<style scoped>
.kind { width: 170px; }
.what { white-space: normal; overflow-wrap: anywhere; min-width: 260px; }
.number { width: 70px; }
</style>
