<script setup lang="ts">
defineProps<{ codes: string[] }>()
defineEmits<{ kept: [] }>()
</script>

<template>
  <section class="sheet codes" aria-labelledby="recovery">
    <h2 id="recovery">Your recovery codes</h2>
    <p>Each lets you in once if you lose your authenticator. They are shown this once: print them, or write them down.</p>
    <ol><li v-for="c in codes" :key="c"><code>{{ c }}</code></li></ol>
    <button class="first" @click="$emit('kept')">I have kept them</button>
  </section>
</template>

<style scoped>
.codes { padding: 16px 18px; display: grid; gap: 12px; justify-items: start; }
.codes p { margin: 0; }
ol { columns: 2; column-gap: 40px; margin: 0; }
</style>
