<script setup lang="ts">
import { onMounted, onUnmounted } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useLive } from '@/api/live'
import { hasZone, turnZone, zone } from '@/format'
import { useOperator } from '@/operator'

const dark = defineModel<boolean>('dark', { required: true })
const operator = useOperator()
const live = useLive()
const router = useRouter()
const route = useRoute()
const pages = [
  { name: 'overview', path: '/', text: 'Overview' },
  { name: 'sessions', path: '/sessions', text: 'Sessions' },
  { name: 'transfers', path: '/transfers', text: 'Transfers' },
  { name: 'traffic', path: '/traffic', text: 'Traffic' },
  { name: 'accounts', path: '/accounts', text: 'Accounts' },
  { name: 'groups', path: '/groups', text: 'Groups' },
  { name: 'stores', path: '/stores', text: 'Stores and quotas' },
  { name: 'gate', path: '/gate', text: 'Gate' },
  { name: 'audit', path: '/audit', text: 'Audit trail' },
  { name: 'reports', path: '/reports', text: 'Reports' },
  { name: 'check-up', path: '/check-up', text: 'Check-up' },
  { name: 'history', path: '/history', text: 'Changes' },
  { name: 'operators', path: '/operators', text: 'Operators' },
  { name: 'settings', path: '/settings', text: 'Settings' },
  { name: 'set-up', path: '/set-up', text: 'Set-up' },
]
onMounted(() => live.open())
onUnmounted(() => live.close())

async function leave() {
  await operator.signOut()
  await router.push({ name: 'sign-in' })
}
</script>

<template>
  <nav aria-label="Pages">
    <div class="name">
      <svg viewBox="0 0 32 32" width="22" height="22" aria-hidden="true"><path fill="currentColor" d="M4 30V11h5v4h4V6h6v9h4v-4h5v19h-9v-6a3 3 0 0 0-6 0v6z" /></svg>
      Urban Keep
    </div>
    <RouterLink v-for="p in pages" :key="p.name" :to="p.path" :class="{ here: route.name === p.name }" :aria-current="route.name === p.name ? 'page' : undefined">{{ p.text }}</RouterLink>
    <div class="foot">
      <p role="status">{{ live.connected ? '● live' : '○ not connected, trying again' }}</p>
      <p>{{ operator.me?.operator }}, {{ operator.me?.role }}</p>
      <button v-if="hasZone" class="plain" @click="turnZone">Times in {{ zone === 'UTC' ? 'my zone' : 'UTC' }}</button>
      <button class="plain" @click="dark = !dark">{{ dark ? 'Light look' : 'Dark look' }}</button>
      <button class="plain" @click="leave">Sign out</button>
    </div>
  </nav>
</template>

<style scoped>
nav { display: flex; flex-direction: column; padding: 18px 0; border-right: 1px solid var(--line); background: var(--sheet); position: sticky; top: 0; height: 100vh; }
.name { display: flex; align-items: center; gap: 8px; padding: 0 16px 20px; font-weight: 600; font-size: 16px; color: var(--spruce); }
a { padding: 5px 16px; color: var(--ink); text-decoration: none; border-left: 3px solid transparent; }
a:hover { background: var(--spruce-wash); }
a.here { border-left-color: var(--spruce); background: var(--spruce-wash); font-weight: 600; }
.foot { margin-top: auto; padding: 0 16px; display: grid; gap: 6px; justify-items: start; font-size: 13px; color: var(--soft); }
.foot p { margin: 0; }
</style>
