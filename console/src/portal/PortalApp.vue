<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { call, type Holder } from './calls'
import FilesPage from './FilesPage.vue'
import SignIn from './SignIn.vue'

const dark = matchMedia('(prefers-color-scheme: dark)')
const look = () => document.documentElement.classList.toggle('dark', dark.matches)
look()
dark.addEventListener('change', look)

const holder = ref<Holder | null>(null)
const name = ref('')
const known = ref(false)
onMounted(async () => {
  name.value = (await call<{ name: string }>('GET', '/door').catch(() => null))?.name ?? ''
  document.title = name.value ? `Files · ${name.value}` : 'Files'
  holder.value = await call<Holder>('GET', '/me').catch(() => null)
  known.value = true
})
async function leave() {
  await call('POST', '/sign-out').catch(() => undefined)
  holder.value = null
}
</script>

<template>
  <main v-if="known" class="portal">
    <header>
      <span class="house">{{ name || 'Urban Keep' }}</span>
      <template v-if="holder"><span class="soft">{{ holder.account }}</span><button class="plain" @click="leave">Sign out</button></template>
    </header>
    <FilesPage v-if="holder" @gone="holder = null" />
    <SignIn v-else @in="(h) => (holder = h)" />
  </main>
</template>

<style scoped>
header { display: flex; flex-wrap: wrap; align-items: baseline; gap: 6px 16px; border-bottom: 2px solid var(--spruce); padding-bottom: 8px; }
.house { font-weight: 600; color: var(--spruce); margin-right: auto; }
</style>
