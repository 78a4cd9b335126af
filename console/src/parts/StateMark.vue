<script setup lang="ts">
// How bad a finding is, or how far a step is: as a shape and a word, never a colour alone.
defineProps<{ state: string }>()
const shapes: Record<string, string> = { fine: '●', note: '◇', warning: '▲', fault: '■', done: '●', open: '○', skipped: '–' }
</script>

<template>
  <span class="state" :class="state"><i aria-hidden="true">{{ shapes[state] ?? '○' }}</i>{{ state }}</span>
</template>

<style scoped>
.state { white-space: nowrap; }
i { display: inline-block; width: 16px; font-style: normal; font-size: 11px; }
.fine i, .done i { color: var(--spruce); }
.warning { color: var(--copper); font-weight: 600; }
.fault { color: var(--brick); font-weight: 600; }
.skipped, .note { color: var(--soft); }
</style>
