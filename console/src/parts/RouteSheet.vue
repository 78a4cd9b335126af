<script setup lang="ts">
import { NButton, NInput, useMessage } from 'naive-ui'
import { onMounted, reactive, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import TableFrame from './TableFrame.vue'
import { words } from './notice'

// Which sources are asked, by the account's name.
type Route = Schemas['Routes']['routes'][number]
const props = defineProps<{ sources: string[]; owner: boolean }>()
const message = useMessage()
const routes = ref<Route[]>([])
const out = ref<string[]>([])
const form = reactive({ pattern: '', sources: '' })
const wrong = ref('')
onMounted(async () => {
  try {
    show(await call<Schemas['Routes']>('GET', '/routes'))
  } catch (error) {
    message.error(sentence(error))
  }
})
function show(now: Schemas['Routes']) {
  routes.value = now.routes
  out.value = now.shutOut ?? []
}
async function put(next: Route[]) {
  wrong.value = ''
  try {
    show(await call<Schemas['Routes']>('PUT', '/routes', { routes: next }))
    return true
  } catch (error) {
    wrong.value = sentence(error)
    return false
  }
}
async function add() {
  if (await put([...routes.value, { pattern: form.pattern.trim(), sources: words(form.sources) }])) Object.assign(form, { pattern: '', sources: '' })
}
const without = (at: number) => routes.value.filter((_, i) => i !== at)
const raise = (at: number) => put([...routes.value.slice(0, at - 1), routes.value[at]!, routes.value[at - 1]!, ...routes.value.slice(at + 1)])
</script>

<template>
  <div id="routes" class="sheet">
    <header><h2>Routes</h2><span class="soft">which source is asked, by the account's name: the first that fits decides</span></header>
    <TableFrame label="Routes">
      <thead><tr><th>Route</th><th>Accounts</th><th>Sources</th><th><span class="soft">Change</span></th></tr></thead>
      <tbody>
        <tr v-for="(r, i) in routes" :key="r.pattern">
          <td>{{ i + 1 }}</td><td class="path">{{ r.pattern }}</td><td>{{ r.sources.join(', then ') }}</td>
          <td class="deeds"><template v-if="owner"><button v-if="i" class="plain" :aria-label="`Ask ${r.pattern} earlier`" @click="raise(i)">Earlier</button><button class="plain" :aria-label="`Remove the route ${r.pattern}`" @click="put(without(i))">Remove</button></template></td>
        </tr>
        <tr><td>{{ routes.length + 1 }}</td><td>everybody else</td><td>own</td><td></td></tr>
      </tbody>
    </TableFrame>
    <p v-if="out.length" class="out" role="status">▲ These can't sign in, for their route does not ask the source they come from: {{ out.join(', ') }}</p>
    <form v-if="owner && props.sources.length" class="fields" @submit.prevent="add">
      <label>Names that fit, as in *@partner.example<NInput v-model:value="form.pattern" placeholder="" :input-props="{ name: 'pattern', spellcheck: false, autocapitalize: 'none' }" /></label>
      <label>Sources in this order, of {{ [...sources, 'own'].join(', ') }}<NInput v-model:value="form.sources" placeholder="" :input-props="{ name: 'route-sources', spellcheck: false, autocapitalize: 'none' }" /></label>
      <NButton attr-type="submit" :disabled="!form.pattern || !form.sources">Add a route</NButton>
      <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
    </form>
  </div>
</template>

<style scoped>
.out { color: var(--copper); padding: 0 14px; }
.deeds { white-space: nowrap; }
.deeds button + button { margin-left: 14px; }
.fields { grid-template-columns: repeat(auto-fit, minmax(min(240px, 100%), 1fr)); max-width: 900px; align-items: end; }
.fields > p { grid-column: 1 / -1; margin: 0; }
</style>
