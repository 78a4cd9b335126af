<script setup lang="ts">
import { useMessage } from 'naive-ui'
import { computed, onMounted, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import { minute, size } from '@/format'

// What a folder held, drawn against its quota.
const props = defineProps<{ place: Schemas['Quota'] }>()
const message = useMessage()
const samples = ref<Schemas['QuotaSamplePage']['items']>([])
onMounted(async () => {
  try {
    const query = new URLSearchParams({ store: props.place.store, folder: props.place.folder })
    samples.value = (await call<Schemas['QuotaSamplePage']>('GET', `/quotas/history?${query}`)).items
  } catch (error) {
    message.error(sentence(error))
  }
})
const width = 560
const height = 110
const top = computed(() => Math.max(props.place.quota.bytes, ...samples.value.map((s) => s.bytes), 1))
const points = computed(() => {
  const first = Date.parse(samples.value[0]?.at ?? '')
  const span = Math.max(1, Date.parse(samples.value.at(-1)?.at ?? '') - first)
  return samples.value.map((s) => `${((Date.parse(s.at) - first) / span) * width},${height - (s.bytes / top.value) * height}`).join(' ')
})
</script>

<template>
  <div>
    <h2>In the last month</h2>
    <p v-if="samples.length < 2" class="soft">Not enough yet: one sample is kept for each hour in which something changed.</p>
    <template v-else>
      <svg :viewBox="`0 -4 ${width} ${height + 8}`" role="img" :aria-label="`From ${size(samples[0]!.bytes)} to ${size(samples.at(-1)!.bytes)}`">
        <line v-if="place.quota.bytes" x1="0" :x2="width" :y1="height - (place.quota.bytes / top) * height" :y2="height - (place.quota.bytes / top) * height" class="quota" />
        <polyline :points="points" />
      </svg>
      <p class="soft ends"><span>{{ minute(samples[0]!.at) }}: {{ size(samples[0]!.bytes) }}</span><span v-if="place.quota.bytes">– – quota {{ size(place.quota.bytes) }}</span><span>{{ minute(samples.at(-1)!.at) }}: {{ size(samples.at(-1)!.bytes) }}</span></p>
    </template>
  </div>
</template>

<style scoped>
svg { width: 100%; border-bottom: 1px solid var(--line); }
polyline { fill: none; stroke: var(--spruce); stroke-width: 2; }
.quota { stroke: var(--copper); stroke-dasharray: 5 4; }
.ends { display: flex; justify-content: space-between; margin: 4px 0 0; font-size: 12px; }
</style>
