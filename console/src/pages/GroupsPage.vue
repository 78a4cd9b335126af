<script setup lang="ts">
import { NButton, NDrawer, NInput, useMessage } from 'naive-ui'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { call, type Schemas } from '@/api/client'
import { useOperator } from '@/operator'
import GroupDetail from '@/parts/GroupDetail.vue'
import ListEnd from '@/parts/ListEnd.vue'
import TableFrame from '@/parts/TableFrame.vue'
import { usePicked, useWindow } from '@/parts/window'

type Group = Schemas['Group']
const route = useRoute()
const router = useRouter()
const message = useMessage()
const operator = useOperator()
const { items: groups, total, text: search, loaded, load: reload, more } = useWindow<Group>('/groups', message.error)
const adding = computed(() => route.query.add !== undefined)
const { picked, find } = usePicked(groups, loaded, (g) => g.name, () => route.params.group as string | undefined, (name) => call<Group>('GET', `/groups/${name}`), message.error)

async function load() {
  await reload()
  await find()
}

const named = 5 // accounts that a row names
const sets = (g: Group) => g.sets.map((s) => `${s.label} ${s.say}`).join('; ')
const close = () => router.push('/groups')
async function saved(name: string) {
  await load()
  await router.push(`/groups/${name}`)
}
async function deleted() {
  await close()
  await load()
}
</script>

<template>
  <section class="page">
    <div class="head">
      <h1>Groups</h1>
      <NInput v-model:value="search" clearable placeholder="Find by name or note" :input-props="{ 'aria-label': 'Find by name or note' }" style="width: 220px" />
      <span class="soft">what an account does not set itself, the first of its groups that does decides; mounts and grants add up</span>
      <NButton v-if="operator.mayChange()" type="primary" @click="router.push('/groups?add')">Add a group</NButton>
    </div>
    <div class="sheet">
      <TableFrame v-if="groups.length" label="Groups">
        <thead><tr><th>Group</th><th>Accounts</th><th>Sets</th><th class="number">Mounts</th><th class="number">Grants</th><th>Note</th></tr></thead>
        <tbody>
          <tr v-for="g in groups" :key="g.name" class="pick" :class="{ picked: g.name === picked?.name }" @click="router.push(`/groups/${g.name}`)">
            <td><button class="plain" @click.stop="router.push(`/groups/${g.name}`)">{{ g.name }}</button></td>
            <td class="wrap">{{ g.accounts.slice(0, named).join(', ') }}<span v-if="g.members > named" class="soft"> and {{ (g.members - named).toLocaleString('en') }} more</span></td>
            <td class="wrap">{{ sets(g) }}</td>
            <td class="number">{{ g.mounts.length }}</td>
            <td class="number">{{ g.grants.length }}</td>
            <td class="wrap soft">{{ g.note }}</td>
          </tr>
        </tbody>
      </TableFrame>
      <p v-else-if="loaded" class="none">{{ search ? 'No group matches.' : 'No group yet. A group is for what several accounts have in common: a home, shared folders, rights, limits.' }}</p>
      <ListEnd :shown="groups.length" :total="total" @more="more" />
    </div>
    <NDrawer :aria-label="picked?.name ?? 'Add a group'" :show="Boolean(picked) || adding" width="min(640px, 100vw)" :show-mask="false" :mask-closable="false" :trap-focus="false" :block-scroll="false" @update:show="close">
      <GroupDetail v-if="adding" :may-change="operator.mayChange()" @saved="saved" @close="close" />
      <GroupDetail v-else-if="picked" :key="JSON.stringify(picked)" :group="picked" :may-change="operator.mayChange()" @saved="saved" @deleted="deleted" @close="close" />
    </NDrawer>
  </section>
</template>

<style scoped>
.wrap { white-space: normal; min-width: 140px; }
</style>
