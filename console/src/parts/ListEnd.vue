<script setup lang="ts">
// Below a list of which a part is shown.
defineProps<{ shown: number; total: number }>()
defineEmits<{ more: [] }>()
</script>

<template>
  <p v-if="shown < total" class="end soft">{{ shown.toLocaleString('en') }} of {{ total.toLocaleString('en') }} are shown. <button class="plain" @click="$emit('more')">Show more</button></p>
</template>

<style scoped>
.end { margin: 0; padding: 8px 14px; }
</style>
