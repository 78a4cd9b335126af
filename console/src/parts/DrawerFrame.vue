<script setup lang="ts">
import { inject } from 'vue'

// The frame of a drawer: a heading, a way out, and what is in it. On a page that provides onPage it is a
// sheet of that page, without a way out.
defineProps<{ title: string }>()
defineEmits<{ close: [] }>()
const onPage = inject('onPage', false)
</script>

<template>
  <section :class="onPage ? 'sheet' : 'drawer'" :aria-label="title">
    <header>
      <h2 v-if="onPage">{{ title }}</h2><h1 v-else>{{ title }}</h1>
      <slot name="beside" /><button v-if="!onPage" class="plain" @click="$emit('close')">Close</button>
    </header>
    <div class="body"><slot /></div>
  </section>
</template>

<style scoped>
.drawer { height: 100%; display: grid; grid-template-rows: auto 1fr; }
.drawer > header { display: flex; align-items: center; gap: 14px; padding: 16px 20px; border-bottom: 1px solid var(--line); }
header button { margin-left: auto; }
.body { overflow: auto; padding: 16px 20px 28px; display: grid; gap: 20px; align-content: start; }
.sheet .body { padding: 14px; }
.body :deep(label) { display: grid; gap: 4px; font-size: 13px; color: var(--soft); }
.body :deep(h2) { margin-bottom: 8px; }
.body :deep(.wrong) { color: var(--brick); margin: 0; }
.body :deep(.row) { display: flex; gap: 8px; flex-wrap: wrap; align-items: center; }
</style>
