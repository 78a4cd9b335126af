<script setup lang="ts">
// The frame of the pages that are shown before an operator is known.
defineProps<{ title: string; wrong: string }>()
defineEmits<{ submit: [] }>()
</script>

<template>
  <main>
    <form @submit.prevent="$emit('submit')">
      <div class="name">
        <svg viewBox="0 0 32 32" width="26" height="26" aria-hidden="true"><path fill="currentColor" d="M4 30V11h5v4h4V6h6v9h4v-4h5v19h-9v-6a3 3 0 0 0-6 0v6z" /></svg>
        Urban Keep
      </div>
      <h1>{{ title }}</h1>
      <slot />
      <p class="wrong" role="alert">{{ wrong }}</p>
    </form>
  </main>
</template>

<style scoped>
main { min-height: 100vh; display: grid; justify-items: center; align-items: start; padding-top: 16vh; }
form { width: min(360px, calc(100vw - 32px)); display: grid; gap: 14px; }
form :deep(label) { display: grid; gap: 4px; font-size: 13px; color: var(--soft); }
form :deep(p) { margin: 0; }
.name { display: flex; align-items: center; gap: 10px; color: var(--spruce); font-weight: 600; font-size: 18px; margin-bottom: 14px; }
.wrong { color: var(--brick); min-height: 3em; }
</style>
