<script setup lang="ts">
import type { Transfer } from '@/api/client'
import { clock, moment, rate, size, span, visible } from '@/format'
import EndButton from './EndButton.vue'
import OutcomeMark from './OutcomeMark.vue'
import OverMark from './OverMark.vue'
import TableFrame from './TableFrame.vue'

// Of one account alone, its name and the speeds are left out.
defineProps<{ rows: Transfer[]; mayEnd: boolean; full?: boolean; alone?: boolean; label: string; none: string }>()

// part is how far a running transfer of known size is, 0 to 100.
const part = (t: Transfer) => (t.outcome === 'running' && t.total > 0 ? Math.min(100, ((t.offset + t.bytes) / t.total) * 100) : 0)
const mark = (t: Transfer) => (part(t) ? ` ${Math.floor(part(t))}%` : '')
</script>

<template>
  <TableFrame v-if="rows.length" :label="label" :class="{ full }">
    <thead>
      <tr>
        <th>Started</th><th v-if="!alone">Account</th><th v-if="full">From</th><th>Over</th><th>Did</th><th>Path</th><th class="number">Size</th><th v-if="!alone" class="number">Took</th><th v-if="!alone" class="number">Rate</th><th>Outcome</th>
        <th v-if="mayEnd"><span class="hidden">Actions</span></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="t in rows" :key="t.id" :class="{ moves: t.outcome === 'running' }" :style="{ '--part': `${part(t)}%` }">
        <td>{{ full ? moment(t.started).slice(5) : clock(t.started) }}</td>
        <td v-if="!alone">{{ t.account }}</td>
        <td v-if="full">{{ t.address }}</td>
        <td><OverMark :protocol="t.protocol" :encrypted="t.encrypted" /></td>
        <td>{{ t.action === 'upload' ? '↑ upload' : '↓ download' }}</td>
        <td class="path" :title="visible(t.path)">{{ visible(t.path) }}</td>
        <td class="number">{{ size(t.bytes) }}{{ t.outcome === 'running' && t.total > 0 ? ` of ${size(t.total)}` : '' }}</td>
        <td v-if="!alone" class="number">{{ t.left !== undefined ? `${span(t.left)} left` : span(t.seconds) }}</td>
        <td v-if="!alone" class="number">{{ t.rate && (t.outcome === 'running' || t.seconds > 0.05) ? rate(t.rate) : '' }}</td>
        <td><OutcomeMark :outcome="t.outcome" :reason="t.reason" />{{ mark(t) }}</td>
        <td v-if="mayEnd" class="number"><EndButton v-if="t.outcome === 'running'" :path="`/transfers/${t.id}`" :what="`the transfer of ${visible(t.path.split('/').at(-1) ?? '')}`" /></td>
      </tr>
    </tbody>
  </TableFrame>
  <p v-else class="none">{{ none }}</p>
</template>

<style scoped>
.full th, .full td { padding-left: 6px; padding-right: 6px; }
.full td { font-size: 13px; }
.full th:first-child, .full td:first-child { padding-left: 14px; }
.full .path { max-width: 210px; font-size: 12px; }
.moves { background: linear-gradient(90deg, var(--spruce-wash) var(--part), transparent var(--part)); }
.hidden { position: absolute; width: 1px; height: 1px; overflow: hidden; clip-path: inset(50%); }
</style>
