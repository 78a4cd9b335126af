<script setup lang="ts">
import { NInput } from 'naive-ui'
import { computed, ref } from 'vue'
import { useLive } from '@/api/live'
import { zone } from '@/format'
import { useOperator } from '@/operator'
import { useNow } from '@/parts/now'
import LockSheet from '@/parts/LockSheet.vue'
import SessionTable from '@/parts/SessionTable.vue'

const live = useLive()
const operator = useOperator()
const now = useNow()
const search = ref('')
const most = 200 // rows that are drawn at once
const found = computed(() => {
  const words = search.value.toLowerCase()
  return live.sessionRows.filter((s) => [s.account, s.address, s.protocol, s.encrypted ? '' : 'in clear', s.client, s.cipher, s.path].join(' ').toLowerCase().includes(words))
})
</script>

<template>
  <section class="page">
    <div class="head">
      <h1>Sessions</h1>
      <NInput v-model:value="search" clearable placeholder="Find by account, address, software" :input-props="{ 'aria-label': 'Find by account, address, software, path' }" style="width: 320px" />
      <span class="soft">{{ search ? `${found.length} of ` : '' }}{{ live.living }} live; who did something last stands first; times in {{ zone }}</span>
    </div>
    <div class="sheet">
      <SessionTable :rows="found.slice(0, most)" :may-end="operator.mayChange()" :now="now" full />
    </div>
    <p v-if="found.length > most" class="soft">{{ most }} of {{ found.length }} are shown: find the others by what they are.</p>
    <LockSheet />
  </section>
</template>
