<script setup lang="ts">
import type { Session } from '@/api/client'
import { clock, size, span, visible } from '@/format'
import EndButton from './EndButton.vue'
import OverMark from './OverMark.vue'
import TableFrame from './TableFrame.vue'

defineProps<{ rows: Session[]; mayEnd: boolean; now: number; full?: boolean }>()
// What a title tells in full.
const shortly = (text: string) => visible(text).replace(/^SSH-2\.0-/, '').replace('@openssh.com', '')
const idle = (s: Session, now: number) => Math.max(0, Math.floor((now - Date.parse(s.active)) / 1000))
</script>

<template>
  <TableFrame v-if="rows.length" label="Live sessions" :class="{ full }">
    <thead>
      <tr>
        <th>Account</th><th>From</th><th>Over</th><th v-if="full">Cipher</th><th v-if="full">Software</th><th>Since</th><th class="number">Idle</th><th>Did</th><th class="number">In</th><th class="number">Out</th>
        <th><span class="hidden">Actions</span></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="s in rows" :key="s.id">
        <td><RouterLink :to="`/accounts/${s.account}`">{{ s.account }}</RouterLink></td>
        <td>{{ s.address }}</td>
        <td :title="s.cipher"><OverMark :protocol="s.protocol" :encrypted="s.encrypted" /></td>
        <td v-if="full" class="cut" :title="s.cipher">{{ shortly(s.cipher) }}</td>
        <td v-if="full" class="cut" :title="visible(s.client)">{{ shortly(s.client) }}</td>
        <td>{{ clock(s.started) }}</td>
        <td class="number">{{ idle(s, now) ? span(idle(s, now)).replace('.0 s', ' s') : '' }}</td>
        <td class="path" :title="visible(s.path)">{{ s.doing }} {{ visible(s.path) }}</td>
        <td class="number">{{ s.up ? size(s.up) : '' }}</td>
        <td class="number">{{ s.down ? size(s.down) : '' }}</td>
        <td class="number"><EndButton v-if="mayEnd" :path="`/sessions/${s.id}`" :what="`the session of ${s.account}`" /></td>
      </tr>
    </tbody>
  </TableFrame>
  <p v-else class="none">Nobody is signed in.</p>
</template>

<style scoped>
.hidden { position: absolute; width: 1px; height: 1px; overflow: hidden; clip-path: inset(50%); }
.full th, .full td { padding-left: 7px; padding-right: 7px; }
.full th:first-child, .full td:first-child { padding-left: 14px; }
.full .path { max-width: 210px; }
.cut { max-width: 128px; font-size: 12.5px; }
.path { max-width: 250px; }
</style>
