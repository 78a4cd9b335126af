<script setup lang="ts">
import { onMounted, onUnmounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useLive } from '@/api/live'
import { hasZone, turnZone, zone } from '@/format'
import { useOperator } from '@/operator'
import { rail } from '@/rooms'
import FindBox from './FindBox.vue'

const dark = defineModel<boolean>('dark', { required: true })
const operator = useOperator()
const live = useLive()
const router = useRouter()
const route = useRoute()
const unfolded = ref(false) // where the rail is a button
watch(() => route.fullPath, () => (unfolded.value = false))
onMounted(() => live.open())
onUnmounted(() => live.close())

async function leave() {
  await operator.signOut()
  await router.push({ name: 'sign-in' })
}
</script>

<template>
  <nav aria-label="Pages" :class="{ unfolded }">
    <div class="name">
      <svg viewBox="0 0 32 32" width="22" height="22" aria-hidden="true"><path fill="currentColor" d="M4 30V11h5v4h4V6h6v9h4v-4h5v19h-9v-6a3 3 0 0 0-6 0v6z" /></svg>
      Urban Keep
      <button class="plain fold" :aria-expanded="unfolded" aria-controls="rail" @click="unfolded = !unfolded">{{ unfolded ? 'Close the menu' : 'Menu' }}</button>
    </div>
    <div id="rail" class="inside">
      <FindBox @wanted="unfolded = true" @gone="unfolded = false" />
      <section v-for="group in rail" :key="group.text" :aria-label="group.text">
        <h2>{{ group.text }}</h2>
        <RouterLink v-for="p in group.pages" :key="p.name" :to="p.to" :class="{ here: route.name === p.name }" :aria-current="route.name === p.name ? 'page' : undefined">{{ p.text }}</RouterLink>
      </section>
      <div class="foot">
        <p role="status">{{ live.connected ? '● live' : '○ not connected, trying again' }}</p>
        <p>{{ operator.me?.operator }}, {{ operator.me?.role }}</p>
        <button v-if="hasZone" class="plain" @click="turnZone">Times in {{ zone === 'UTC' ? 'my zone' : 'UTC' }}</button>
        <button class="plain" @click="dark = !dark">{{ dark ? 'Light look' : 'Dark look' }}</button>
        <button class="plain" @click="leave">Sign out</button>
      </div>
    </div>
  </nav>
</template>

<style scoped>
nav { padding: 16px 0; border-right: 1px solid var(--line); background: var(--sheet); position: sticky; top: 0; height: 100vh; display: flex; flex-direction: column; z-index: 5; }
.name { display: flex; align-items: center; gap: 8px; padding: 0 16px 14px; font-weight: 600; font-size: 16px; color: var(--spruce); }
.fold { display: none; margin-left: auto; font-size: 14px; }
.inside { flex: 1; min-height: 0; display: flex; flex-direction: column; }
h2 { padding: 0 16px 2px; font-size: 12px; font-weight: 500; color: var(--soft); }
section { margin-bottom: 10px; }
a { display: block; padding: 2px 16px; color: var(--ink); text-decoration: none; border-left: 3px solid transparent; }
a:hover { background: var(--spruce-wash); }
a.here { border-left-color: var(--spruce); background: var(--spruce-wash); font-weight: 600; }
.foot { margin-top: auto; padding: 0 16px; display: grid; gap: 4px; justify-items: start; font-size: 13px; color: var(--soft); }
.foot p { margin: 0; }
@media (max-height: 779px) { .inside { overflow: auto; } }
@media (max-width: 899px) {
  nav { height: auto; padding: 10px 0; border-right: 0; border-bottom: 1px solid var(--line); }
  nav.unfolded { max-height: 100vh; }
  .name { padding-bottom: 0; }
  .fold { display: block; }
  .inside { display: none; overflow: auto; padding-top: 12px; }
  .unfolded .inside { display: flex; }
  a { padding: 7px 16px; }
}
</style>
