<script setup lang="ts">
import { ref, watch } from 'vue'
import { call, join } from './calls'

const props = defineProps<{ path: string; name: string }>()
const rights = { upload: 'Upload files', overwrite: 'Replace files', download: 'Download', mkdir: 'Make folders', rename: 'Rename and move', delete: 'Delete files', rmdir: 'Delete folders' }
const found = ref<{ say: string; may: boolean; why: string }[]>([])
watch(() => [props.path, props.name], async () => {
  const at = join(props.path, props.name || 'x')
  found.value = await Promise.all(
    Object.entries(rights).map(async ([right, say]) => {
      const answer = await call<{ may: boolean; say: string }>('GET', '/why?' + new URLSearchParams({ path: at, right })).catch((error) => ({ may: false, say: (error as Error).message }))
      return { say, may: answer.may, why: answer.say }
    }),
  )
}, { immediate: true })
</script>

<template>
  <section class="sheet why" aria-label="What you may do">
    <h2>{{ name ? `With ${name}` : 'In this folder' }}</h2>
    <dl><template v-for="f in found" :key="f.say"><dt>{{ f.may ? '✓' : '✗' }} {{ f.say }}</dt><dd :class="{ soft: f.may }">{{ f.may ? 'you may' : f.why }}</dd></template></dl>
  </section>
</template>

<style scoped>
.why { padding: 12px 14px; }
dl { display: grid; grid-template-columns: 180px 1fr; gap: 4px 14px; margin: 8px 0 0; }
dd { margin: 0; }
@media (max-width: 560px) { dl { grid-template-columns: 1fr; } dd { margin-bottom: 6px; } }
</style>
