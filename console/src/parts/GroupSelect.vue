<script setup lang="ts">
import { NSelect } from 'naive-ui'
import { computed, onMounted, ref } from 'vue'
import { call, type Schemas } from '@/api/client'

// Groups to pick from; of many, those are offered that have in them what is typed.
const props = defineProps<{ label: string; size?: 'small' }>()
const picked = defineModel<string[]>({ required: true })
const emit = defineEmits<{ known: [groups: Schemas['Group'][]] }>()
const known = ref(new Map<string, Schemas['Group']>())
const offered = ref<string[]>([])
const options = computed(() => [...new Set([...offered.value, ...picked.value])].map((name) => ({ value: name, label: name + (known.value.get(name)?.note ? `: ${known.value.get(name)?.note}` : '') })))

let turn = 0
async function look(text: string) {
  const mine = ++turn
  const page = await call<Schemas['GroupPage']>('GET', `/groups?${new URLSearchParams({ limit: '50', text })}`).catch(() => ({ items: [] }))
  if (mine !== turn) return
  page.items.forEach((g) => known.value.set(g.name, g))
  offered.value = page.items.map((g) => g.name)
  emit('known', [...known.value.values()])
}
onMounted(() => look(''))
</script>

<template>
  <div class="pick">{{ props.label }}<NSelect v-model:value="picked" multiple filterable remote :size="props.size ?? 'medium'" :options="options" placeholder="none" :input-props="{ 'aria-label': props.label }" @search="look" /></div>
</template>

<style scoped>
.pick { display: grid; gap: 4px; font-size: 13px; color: var(--soft); }
</style>
