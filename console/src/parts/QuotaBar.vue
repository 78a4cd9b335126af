<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '@/api/client'
import { size } from '@/format'

const props = defineProps<{ used: Schemas['Limits']; quota: Schemas['Limits'] }>()
const part = computed(() =>
  Math.max(props.quota.bytes ? props.used.bytes / props.quota.bytes : 0, props.quota.files ? props.used.files / props.quota.files : 0),
)
const words = computed(() => {
  const said = [props.quota.bytes ? `${size(props.used.bytes)} of ${size(props.quota.bytes)}` : size(props.used.bytes)]
  if (props.quota.files) said.push(`${props.used.files} of ${props.quota.files} files`)
  return said.join(', ')
})
const state = computed(() => (part.value >= 1 ? 'full' : part.value >= 0.8 ? 'nearly full' : ''))
</script>

<template>
  <div class="quota" :class="{ near: part >= 0.8, full: part >= 1 }">
    <span>{{ words }} <b v-if="state">{{ state }}</b></span>
    <div class="bar" role="meter" :aria-valuenow="Math.round(part * 100)" aria-valuemin="0" aria-valuemax="100" :aria-label="words"><i :style="{ width: Math.min(100, part * 100) + '%' }" /></div>
  </div>
</template>

<style scoped>
.quota { display: grid; gap: 3px; min-width: 150px; white-space: normal; }
.bar { height: 5px; background: var(--line); border-radius: 2px; overflow: hidden; }
i { display: block; height: 100%; background: var(--spruce); }
.near i { background: var(--copper); }
.full i { background: var(--brick); }
b { font-weight: 600; color: var(--copper); }
.full b { color: var(--brick); }
</style>
