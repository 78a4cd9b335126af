<script setup lang="ts">
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { call, type Schemas } from '@/api/client'
import TransferTable from './TransferTable.vue'

// Waits for what an account moves first, and shows it when it comes in.
const props = defineProps<{ account: string }>()
const found = ref<Schemas['Transfer'][]>([])
let timer = 0
async function look() {
  const account = props.account
  const page = await call<Schemas['TransferPage']>('GET', `/transfers?${new URLSearchParams({ account, limit: '5' })}`).catch(() => null)
  if (page && account === props.account) found.value = page.items
}
watch(
  () => props.account,
  () => {
    found.value = []
    void look()
  },
)
onMounted(() => {
  void look()
  timer = window.setInterval(() => void look(), 2000)
})
onBeforeUnmount(() => window.clearInterval(timer))
</script>

<template>
  <div class="sheet">
    <header><h2>{{ found.length ? `${account} has arrived` : `Waiting for ${account}` }}</h2><span class="soft">{{ found.length ? 'its newest transfers' : 'its first transfer is shown here when it comes in' }}</span></header>
    <TransferTable :rows="found" :may-end="false" alone label="First transfers" none="Nothing yet." />
  </div>
</template>
