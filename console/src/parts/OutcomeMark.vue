<script setup lang="ts">
import { computed } from 'vue'

// An outcome as a shape and a word, never a colour alone.
const props = defineProps<{ outcome: string; reason?: string }>()
const shapes: Record<string, string> = { running: '▶', done: '●', refused: '■', failed: '▲', interrupted: '◆', active: '●', suspended: '■' }
const shape = computed(() => shapes[props.outcome] ?? '○')
</script>

<template>
  <span class="mark" :class="outcome"><i aria-hidden="true">{{ shape }}</i>{{ outcome }}<small v-if="reason">{{ reason.replaceAll('-', ' ') }}</small></span>
</template>

<style scoped>
.mark { white-space: nowrap; }
i { font-style: normal; font-size: 9px; margin-right: 6px; vertical-align: 1px; color: var(--spruce); }
small { margin-left: 6px; color: var(--soft); font-size: 12px; }
.refused, .refused i, .failed, .failed i, .suspended, .suspended i { color: var(--brick); }
.interrupted, .interrupted i { color: var(--copper); }
</style>
