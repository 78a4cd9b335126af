<script setup lang="ts">
import { NButton, NDrawer, NInput, useMessage } from 'naive-ui'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { call, type Account } from '@/api/client'
import { minute, zone } from '@/format'
import { useOperator } from '@/operator'
import AccountDetail from '@/parts/AccountDetail.vue'
import AccountForm from '@/parts/AccountForm.vue'
import OutcomeMark from '@/parts/OutcomeMark.vue'
import { homeOf, rightsOf } from '@/parts/account'
import RosterForm from '@/parts/RosterForm.vue'
import ListEnd from '@/parts/ListEnd.vue'
import TableFrame from '@/parts/TableFrame.vue'
import { usePicked, useWindow } from '@/parts/window'

const route = useRoute()
const router = useRouter()
const message = useMessage()
const operator = useOperator()
const { items: accounts, total, text: search, loaded, load: reload, more } = useWindow<Account>('/accounts', message.error)

const adding = computed(() => route.query.add !== undefined)
const importing = computed(() => route.query.import !== undefined)
const { picked, find } = usePicked(accounts, loaded, (a) => a.name, () => route.params.account as string | undefined, (name) => call<Account>('GET', `/accounts/${name}`), message.error)

async function load() {
  await reload()
  await find()
}

const pick = (name: string) => router.push(`/accounts/${name}`)
const close = () => router.push('/accounts')

async function added(account: Account) {
  await load()
  await pick(account.name)
}

async function gone(name: string) {
  await close()
  await load()
  message.success(`${name} was deleted. Its files stay where they are.`)
}
</script>

<template>
  <section class="page">
    <div class="head">
      <h1>Accounts</h1>
      <NInput v-model:value="search" clearable placeholder="Find by name, note or group" :input-props="{ 'aria-label': 'Find by name, note or group' }" style="width: 260px" />
      <a href="/api/v1/account-roster" download="accounts.csv">Export CSV</a>
      <NButton v-if="operator.mayChange()" @click="router.push('/accounts?import')">Import CSV</NButton>
      <NButton v-if="operator.mayChange()" type="primary" @click="router.push('/accounts?add')">Add an account</NButton>
    </div>
    <div class="sheet">
      <TableFrame v-if="accounts.length" label="Accounts">
        <thead>
          <tr><th>Account, groups</th><th>State</th><th>Home</th><th>Rights</th><th>Signs in by</th><th class="number">Live</th><th>Last sign-in, {{ zone }}</th><th>Note</th></tr>
        </thead>
        <tbody>
          <tr v-for="a in accounts" :key="a.name" class="pick" :class="{ picked: a.name === picked?.name }" @click="pick(a.name)">
            <td><button class="plain" @click.stop="pick(a.name)">{{ a.name }}</button> <span class="soft">{{ a.groups.join(', ') }}</span></td>
            <td><OutcomeMark :outcome="a.state" /></td>
            <td class="path home" :title="homeOf(a)">{{ homeOf(a) }}</td>
            <td>{{ rightsOf(a) }}</td>
            <td>{{ a.means }} <b v-if="a.plain" class="warn">plain FTP</b></td>
            <td class="number">{{ a.sessions || '' }}</td>
            <td>{{ minute(a.lastSignIn) }}</td>
            <td class="cut soft" :title="a.note">{{ a.note }}</td>
          </tr>
        </tbody>
      </TableFrame>
      <p v-else-if="loaded" class="none">{{ search ? 'No account matches.' : 'No account yet. Add the first one: who is to move files here?' }}</p>
      <ListEnd :shown="accounts.length" :total="total" @more="more" />
    </div>

    <NDrawer :aria-label="picked?.name ?? (importing ? 'Import accounts' : 'Add an account')" :show="Boolean(picked) || adding || importing" width="min(640px, 100vw)" :show-mask="false" :mask-closable="false" :trap-focus="false" :block-scroll="false" @update:show="close">
      <AccountForm v-if="adding" @added="added" @close="close" />
      <RosterForm v-else-if="importing" @changed="load" @close="close" />
      <AccountDetail v-else-if="picked" :key="picked.name" :account="picked" @changed="load" @deleted="gone" @close="close" />
    </NDrawer>
  </section>
</template>

<style scoped>
.home { max-width: 168px; }
.cut { max-width: 140px; }
.warn { color: var(--copper); background: var(--copper-wash); font-weight: 600; font-size: 12px; padding: 0 5px; border-radius: 3px; }
</style>
