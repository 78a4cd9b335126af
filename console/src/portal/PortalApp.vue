<script setup lang="ts">
import { onMounted, onUnmounted, ref, watchEffect } from 'vue'
import { call, type Door, type Holder, type SSO } from './calls'
import AccountPage from './AccountPage.vue'
import FilesPage from './FilesPage.vue'
import LetIn from './LetIn.vue'
import NoticesPage from './NoticesPage.vue'
import PassesPage from './PassesPage.vue'
import RecoveryCodes from './RecoveryCodes.vue'
import SignIn from './SignIn.vue'
import UploadSheet from './UploadSheet.vue'

const dark = matchMedia('(prefers-color-scheme: dark)')
const look = () => document.documentElement.classList.toggle('dark', dark.matches)
look()
dark.addEventListener('change', look)

const holder = ref<Holder | null>(null)
const recovery = ref<string[]>([])
const name = ref('')
const banner = ref('')
const sso = ref<SSO[]>([])
const link = ref('') // of an SFTP client that waits
const known = ref(false)
const page = ref('')
const hash = location.hash
function turn() {
  page.value = { '#account': 'account', '#passes': 'passes', '#notices': 'notices' }[location.hash] ?? 'files'
  link.value = location.hash.startsWith('#let-in=') ? location.hash.slice(8) : location.hash === '#client-let-in' ? 'done' : ''
}
// Why a single sign-on has not let somebody in: more is not said.
const refusals: Record<string, string> = {
  '#not-signed-in': 'The single sign-on did not let you in. Who looks after this service can see why.',
  '#too-many-sessions': 'There are as many sessions as there may be: end one first, or try again later.',
}
onMounted(async () => {
  addEventListener('hashchange', turn)
  turn()
  const door = await call<Door>('GET', '/door').catch(() => null)
  sso.value = door?.sso ?? []
  name.value = door?.name ?? ''
  banner.value = door?.banner ?? ''
  if (door?.known) holder.value = await call<Holder>('GET', '/me').catch(() => null)
  known.value = true
})
const folder = ref('Files')
watchEffect(() => {
  const at = !holder.value ? 'Sign in' : { account: 'My account', passes: 'Passes', notices: 'Notices' }[page.value] ?? folder.value
  document.title = name.value ? `${at} · ${name.value}` : at
})
onUnmounted(() => removeEventListener('hashchange', turn))
function enter(h: Holder) {
  recovery.value = h.recovery ?? []
  holder.value = h
}
async function leave() {
  await call('POST', '/sign-out').catch(() => undefined)
  holder.value = null
}
</script>

<template>
  <main v-if="known" class="portal">
    <header>
      <span class="house">{{ name || 'Urban Keep' }}</span>
      <template v-if="holder && !recovery.length">
        <nav aria-label="Pages"><a href="#/" :aria-current="page === 'files' ? 'page' : undefined">Files</a><a v-if="holder.passes !== 'none'" href="#passes" :aria-current="page === 'passes' ? 'page' : undefined">Passes</a><a href="#notices" :aria-current="page === 'notices' ? 'page' : undefined">Notices</a><a href="#account" :aria-current="page === 'account' ? 'page' : undefined">My account</a></nav>
        <span class="soft">{{ holder.account }}</span><button class="plain" @click="leave">Sign out</button>
      </template>
    </header>
    <LetIn v-if="link" :key="link" :code="link" />
    <template v-else-if="holder && recovery.length"><RecoveryCodes :codes="recovery" @kept="recovery = []" /></template>
    <template v-else-if="holder">
      <UploadSheet :account="holder.account" @gone="holder = null" />
      <AccountPage v-if="page === 'account'" :account="holder.account" @gone="holder = null" />
      <NoticesPage v-else-if="page === 'notices'" @gone="holder = null" />
      <PassesPage v-else-if="page === 'passes'" @gone="holder = null" />
      <FilesPage v-else :passes="holder.passes" :pass-days="holder.passDays" @title="(of) => (folder = of)" @gone="holder = null" />
    </template>
    <SignIn v-else :banner="banner" :sso="sso" :refused="refusals[hash] ?? ''" @in="enter" />
  </main>
</template>

<style scoped>
header { display: flex; flex-wrap: wrap; align-items: baseline; gap: 6px 16px; border-bottom: 2px solid var(--spruce); padding-bottom: 8px; }
.house { font-weight: 600; color: var(--spruce); margin-right: auto; }
nav { display: flex; gap: 14px; }
nav a[aria-current] { color: var(--ink); font-weight: 600; text-decoration: none; }
</style>
