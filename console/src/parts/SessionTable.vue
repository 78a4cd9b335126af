<script setup lang="ts">
import type { Session } from '@/api/client'
import { clock, size, visible } from '@/format'
import OverMark from './OverMark.vue'

defineProps<{ rows: Session[]; mayEnd: boolean }>()
defineEmits<{ end: [session: Session] }>()
</script>

<template>
  <div v-if="rows.length" class="scroll">
    <table aria-label="Live sessions">
      <thead>
        <tr><th>Account</th><th>From</th><th>Over</th><th>Since</th><th>Does</th><th class="number">Up</th><th class="number">Down</th><th><span class="hidden">Actions</span></th></tr>
      </thead>
      <tbody>
        <tr v-for="s in rows" :key="s.id">
          <td><RouterLink :to="`/accounts/${s.account}`">{{ s.account }}</RouterLink></td>
          <td>{{ s.address }}</td>
          <td :title="s.cipher"><OverMark :protocol="s.protocol" :encrypted="s.encrypted" /></td>
          <td>{{ clock(s.since) }}</td>
          <td class="path" :title="visible(s.client)">{{ s.doing }} {{ visible(s.path) }}</td>
          <td class="number">{{ size(s.up) }}</td>
          <td class="number">{{ size(s.down) }}</td>
          <td class="number"><button v-if="mayEnd" class="plain" :aria-label="`End the session of ${s.account}`" @click="$emit('end', s)">End</button></td>
        </tr>
      </tbody>
    </table>
  </div>
  <p v-else class="none">Nobody is signed in.</p>
</template>

<style scoped>
.hidden { position: absolute; width: 1px; height: 1px; overflow: hidden; clip-path: inset(50%); }
.scroll { max-height: 272px; }
</style>
