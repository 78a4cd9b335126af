<script setup lang="ts">
import type { Transfer } from '@/api/client'
import { clock, rate, size, span, visible } from '@/format'
import OutcomeMark from './OutcomeMark.vue'
import OverMark from './OverMark.vue'

defineProps<{ rows: Transfer[] }>()

// part is how far a running transfer of known size is, 0 to 100.
const part = (t: Transfer) => (t.outcome === 'running' && t.total > 0 ? Math.min(100, ((t.offset + t.bytes) / t.total) * 100) : 0)
</script>

<template>
  <div v-if="rows.length" class="scroll">
    <table aria-label="Newest transfers">
      <thead>
        <tr><th>Started</th><th>Account</th><th>Over</th><th>Did</th><th>Path</th><th class="number">Size</th><th class="number">Took</th><th class="number">Rate</th><th>Outcome</th></tr>
      </thead>
      <tbody>
        <tr v-for="t in rows" :key="t.id" :class="{ moves: t.outcome === 'running' }" :style="{ '--part': `${part(t)}%` }">
          <td>{{ clock(t.started) }}</td>
          <td>{{ t.account }}</td>
          <td><OverMark :protocol="t.protocol" :encrypted="t.encrypted" /></td>
          <td>{{ t.action === 'upload' ? '↑ upload' : '↓ download' }}</td>
          <td class="path" :title="visible(t.path)">{{ visible(t.path) }}</td>
          <td class="number">{{ size(t.bytes) }}</td>
          <td class="number">{{ span(t.seconds) }}</td>
          <td class="number">{{ t.bytes && t.seconds > 0.05 ? rate(t.bytes / t.seconds) : '' }}</td>
          <td><OutcomeMark :outcome="t.outcome" :reason="t.reason" /></td>
        </tr>
      </tbody>
    </table>
  </div>
  <p v-else class="none">Nothing has been moved since the service started.</p>
</template>

<style scoped>
.moves { background: linear-gradient(90deg, var(--spruce-wash) var(--part), transparent var(--part)); }
</style>
