<script setup lang="ts">
import type { Schemas } from '@/api/client'
import { visible } from '@/format'
import StateMark from './StateMark.vue'
import TableFrame from './TableFrame.vue'

// What a check-up found, each line with what was seen and what to do.
defineProps<{ findings: Schemas['Finding'][]; label: string }>()
</script>

<template>
  <TableFrame :label="label">
    <thead><tr><th>State</th><th>Of</th><th>What was seen, and what to do</th></tr></thead>
    <tbody>
      <tr v-for="(f, i) in findings" :key="i">
        <td><StateMark :state="f.state" /></td>
        <td>{{ f.check }} {{ visible(f.of) }}</td>
        <td class="says">{{ visible(f.says) }}<p v-if="f.do">→ {{ visible(f.do) }}</p></td>
      </tr>
    </tbody>
  </TableFrame>
</template>

<style scoped>
.says { white-space: normal; overflow-wrap: anywhere; min-width: 200px; }
.says p { margin: 2px 0 0; color: var(--soft); }
td:first-child { width: 96px; }
td:nth-child(2) { width: 170px; }
</style>
