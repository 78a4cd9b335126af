<script setup lang="ts">
import { NButton, NDrawer, NInput, NSelect, useMessage } from 'naive-ui'
import { onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { call, sentence, type Schemas } from '@/api/client'
import { minute, size, zone } from '@/format'
import { useOperator } from '@/operator'
import DrawerFrame from '@/parts/DrawerFrame.vue'
import ListEnd from '@/parts/ListEnd.vue'
import QuotaBar from '@/parts/QuotaBar.vue'
import QuotaHistory from '@/parts/QuotaHistory.vue'
import StoreForm from '@/parts/StoreForm.vue'
import StoreMove from '@/parts/StoreMove.vue'
import TableFrame from '@/parts/TableFrame.vue'
import { usePicked, useWindow } from '@/parts/window'

type Quota = Schemas['Quota']
const route = useRoute()
const router = useRouter()
const message = useMessage()
const operator = useOperator()
const mayChange = operator.mayChange()
const stores = ref<Schemas['Store'][]>([])
const { items: quotas, total, text: search, loaded, load: reload, more } = useWindow<Quota>('/quotas', message.error)
const grounds = ref<string[]>([])
const busy = ref(false)
const named = 10 // users that a row names
const nameOf = (q: Quota) => `${q.store}:${q.folder}`
const { picked } = usePicked(quotas, loaded, nameOf, () => route.query.folder as string | undefined,
  async (folder) => (await call<Schemas['QuotaPage']>('GET', `/quotas?${new URLSearchParams({ limit: '1000', text: folder })}`)).items.find((q) => nameOf(q) === folder), message.error)

async function load() {
  try {
    stores.value = (await call<Schemas['StorePage']>('GET', '/stores')).items
    await reload()
    grounds.value = (await call<Schemas['Grounds']>('GET', '/store-grounds')).grounds
  } catch (error) {
    message.error(sentence(error))
  }
}
onMounted(load)

const durabilities: { value: Schemas['Durability']; label: string }[] = [
  { value: 'power', label: 'a power cut' },
  { value: 'process', label: 'the end of the service' },
]
async function set(name: string, durability: Schemas['Durability']) {
  try {
    await call('PATCH', `/stores/${name}`, { durability } satisfies Schemas['StoreChange'])
  } catch (error) {
    message.error(sentence(error))
  }
  await load()
}
async function mark(name: string) {
  try {
    await call('POST', `/stores/${name}/mark`)
    message.success(`The folder that is there is the store ${name} now.`)
  } catch (error) {
    message.error(sentence(error))
  }
  await load()
}
const moving = ref('')
const trying = ref('')
const tried = ref<Schemas['StoreCheck'] & { of: string }>()
async function check(name: string) {
  trying.value = name
  try {
    tried.value = { ...(await call<Schemas['StoreCheck']>('POST', `/stores/${name}/check`)), of: name }
  } catch (error) {
    message.error(sentence(error))
  } finally {
    trying.value = ''
  }
  await load()
}
async function remove(name: string) {
  try {
    await call('DELETE', `/stores/${name}`)
    message.success(`${name} is no store any more. Its files stay.`)
  } catch (error) {
    message.error(sentence(error))
  }
  await load()
}
async function recount(q: Quota) {
  busy.value = true
  try {
    const found = await call<Schemas['Recount']>('POST', '/quotas/recount', { store: q.store, folder: q.folder } satisfies Schemas['QuotaPlace'])
    const differs = found.bytesBefore !== found.bytesNow || found.filesBefore !== found.filesNow
    message.success(`It holds ${size(found.bytesNow)} in ${found.filesNow} files, ${differs ? `not ${size(found.bytesBefore)} in ${found.filesBefore}, as was known` : 'as was known'}.`)
    await load()
  } catch (error) {
    message.error(sentence(error))
  } finally {
    busy.value = false
  }
}
const close = () => router.push('/stores')
</script>

<template>
  <section class="page">
    <div class="head"><h1>Stores and quotas</h1></div>
    <div id="grounds" class="sheet">
      <header><h2>Stores</h2><span class="soft">{{ grounds.length ? `they may lie in ${grounds.join(', ')}` : 'they may lie anywhere on the machine' }}</span></header>
      <TableFrame label="Stores">
        <thead><tr><th>Store</th><th>Kind</th><th>Where</th><th>State</th><th>What is acknowledged outlives</th><th>Mounted by</th><th></th></tr></thead>
        <tbody>
          <tr v-for="s in stores" :key="s.name">
            <td>{{ s.name }}</td>
            <td>{{ s.kind }}</td>
            <td class="mono where" :title="s.where">{{ s.where }}</td>
            <td class="wrap"><template v-if="!s.away">there</template><template v-else><b class="wrong">away</b> {{ s.away }} <button v-if="mayChange && (s.kind === 'disk' || s.kind === 'sealed') && s.site?.key !== 'passphrase'" class="plain" @click="mark(s.name)">Take what is there</button></template></td>
            <td>
              <span v-if="s.kind === 'object' || s.kind === 'blob'" class="soft" title="The service of objects has its own promise">as its service promises</span>
              <NSelect v-else-if="mayChange" size="small" class="durability" :value="s.durability" :options="durabilities" :input-props="{ 'aria-label': `What is acknowledged in ${s.name} outlives` }" @update:value="(d: Schemas['Durability']) => set(s.name, d)" />
              <template v-else>{{ durabilities.find((d) => d.value === s.durability)?.label }}</template>
            </td>
            <td class="wrap">{{ s.mountedBy.slice(0, named).join(', ') || 'nobody' }}<span v-if="s.users > named" class="soft"> and {{ (s.users - named).toLocaleString('en') }} more</span></td>
            <td class="number">
              <button v-if="mayChange" class="plain" :aria-label="`Try it: ${s.name}`" :disabled="trying === s.name" @click="check(s.name)">{{ trying === s.name ? 'Trying…' : 'Try it' }}</button>
              <button v-if="operator.isOwner() && stores.length > 1" class="plain" :aria-label="`Move ${s.name}`" @click="moving = s.name">Move</button>
              <button v-if="mayChange && !s.users" class="plain" :aria-label="`Remove ${s.name}`" @click="remove(s.name)">Remove</button>
            </td>
          </tr>
        </tbody>
      </TableFrame>
      <div v-if="tried" class="tried" role="status">
        <p><b>{{ tried.of }}</b> {{ tried.fine ? 'can do all that the service asks of it.' : 'can\'t do all that the service asks of it:' }} <button class="plain" @click="tried = undefined">Close</button></p>
        <ul><li v-for="step in tried.steps" :key="step.what"><span :class="{ wrong: !step.fine }">{{ step.fine ? '✓' : '✗' }}</span> {{ step.what }} <span class="soft">{{ step.took }} ms</span><template v-if="step.say"> – {{ step.say }}</template></li></ul>
      </div>
      <StoreMove v-if="moving" :key="moving" :from="moving" :stores="stores.map((s) => s.name)" @moved="load" @close="moving = ''" />
      <StoreForm v-if="mayChange" @added="load" />
    </div>
    <div class="sheet">
      <header><h2>Quotas</h2><span class="soft">folders that may hold so much and no more, the fullest first; set on a group, an account or a mount</span>
        <NInput v-if="total > quotas.length || search" v-model:value="search" size="small" clearable placeholder="Find by store and folder" :input-props="{ 'aria-label': 'Find by store and folder' }" style="width: 220px" /></header>
      <TableFrame v-if="quotas.length" label="Quotas">
        <thead><tr><th>Folder</th><th>Holds</th><th>Accounts</th><th>Counted ({{ zone }})</th></tr></thead>
        <tbody>
          <tr v-for="q in quotas" :key="nameOf(q)" class="pick" :class="{ picked: q === picked }" @click="router.push({ query: { folder: nameOf(q) } })">
            <td><button class="plain mono" @click.stop="router.push({ query: { folder: nameOf(q) } })">{{ nameOf(q) }}</button></td>
            <td><QuotaBar :used="q.used" :quota="q.quota" /></td>
            <td class="wrap">{{ q.accounts.slice(0, named).join(', ') }}<span v-if="q.accounts.length > named" class="soft"> and {{ (q.accounts.length - named).toLocaleString('en') }} more</span></td>
            <td>{{ q.counting ? 'being counted' : minute(q.counted) }}</td>
          </tr>
        </tbody>
      </TableFrame>
      <p v-else class="none">{{ search ? 'No such folder has a quota.' : 'No folder has a quota.' }}</p>
      <ListEnd :shown="quotas.length" :total="total" @more="more" />
    </div>
    <NDrawer :aria-label="'A folder with a quota'" :show="Boolean(picked)" width="min(640px, 100vw)" :show-mask="false" :mask-closable="false" :trap-focus="false" :block-scroll="false" @update:show="close">
      <DrawerFrame v-if="picked" :key="nameOf(picked)" :title="nameOf(picked)" @close="close">
        <QuotaBar :used="picked.used" :quota="picked.quota" />
        <p class="members">Mounted by <RouterLink v-for="a in picked.accounts" :key="a" :to="`/accounts/${a}`">{{ a }}</RouterLink></p>
        <QuotaHistory :place="picked" />
        <div v-if="mayChange" class="row"><NButton :loading="busy" @click="recount(picked)">Count it anew</NButton><span class="soft">nobody changes it meanwhile; it is done once a day by itself</span></div>
      </DrawerFrame>
    </NDrawer>
  </section>
</template>

<style scoped>
.wrap { white-space: normal; min-width: 160px; }
td.number button + button { margin-left: 10px; }
.durability { width: 190px; }
.where { max-width: 260px; overflow: hidden; text-overflow: ellipsis; }
.tried { padding: 10px 14px; border-top: 1px solid var(--line); }
.tried p { margin: 0 0 6px; }
.tried ul { margin: 0; padding: 0; list-style: none; columns: 2; }
.wrong { color: var(--brick); }
.members { margin: 0; }
.members a { margin-left: 8px; }
</style>
