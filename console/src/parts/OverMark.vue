<script setup lang="ts">
import { over } from '@/format'

// A protocol, with a warning where nothing was encrypted.
defineProps<{ protocol: string; encrypted: boolean }>()
</script>

<template>
  <span>{{ over(protocol, encrypted) }} <b v-if="protocol && !encrypted">in clear</b></span>
</template>

<style scoped>
b { color: var(--copper); background: var(--copper-wash); font-weight: 600; font-size: 12px; padding: 0 5px; border-radius: 3px; }
</style>
