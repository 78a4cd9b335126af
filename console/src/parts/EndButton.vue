<script setup lang="ts">
import { NButton, NInput, NPopover, useMessage } from 'naive-ui'
import { ref } from 'vue'
import { call, sentence } from '@/api/client'

// Ends a session or a transfer, for a reason that its client is told and the trail keeps.
const props = defineProps<{ path: string; what: string }>()
const message = useMessage()
const open = ref(false)
const reason = ref('')

async function end() {
  try {
    await call('DELETE', `${props.path}?${new URLSearchParams(reason.value ? { reason: reason.value } : {})}`)
    message.success(`${props.what.charAt(0).toUpperCase()}${props.what.slice(1)} was ended.`)
    open.value = false
  } catch (error) {
    message.error(sentence(error))
  }
}
</script>

<template>
  <NPopover v-model:show="open" trigger="click" placement="bottom-end">
    <template #trigger><button class="plain" :aria-label="`End ${what}`">End</button></template>
    <form class="ask" @submit.prevent="end">
      <NInput v-model:value="reason" size="small" placeholder="Why? The client is told." :input-props="{ 'aria-label': 'Why', name: 'reason' }" />
      <NButton size="small" type="error" attr-type="submit">End {{ what }}</NButton>
    </form>
  </NPopover>
</template>

<style scoped>
.ask { display: grid; gap: 8px; width: 300px; }
</style>
