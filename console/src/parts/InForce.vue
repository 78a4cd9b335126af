<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '@/api/client'
import QuotaBar from './QuotaBar.vue'
import TableFrame from './TableFrame.vue'

// What holds for an account, and who set it.
const props = defineProps<{ now: Schemas['Account']['inForce'] }>()
const set = computed(() => (props.now.settings ?? []).filter((s) => s.from))
</script>

<template>
  <div v-if="set.length">
    <h2>Settings</h2>
    <TableFrame label="Settings in force">
      <thead><tr><th>Setting</th><th>Value</th><th>Set by</th></tr></thead>
      <tbody>
        <tr v-for="s in set" :key="s.name"><td>{{ s.label }}</td><td class="wrap">{{ s.say }}</td><td class="soft">{{ s.from }}</td></tr>
      </tbody>
    </TableFrame>
  </div>
  <div>
    <h2>Tree</h2>
    <TableFrame label="Mounts">
      <thead><tr><th>Path</th><th>Leads to</th><th>Holds</th><th>Set by</th></tr></thead>
      <tbody>
        <tr v-for="m in now.mounts" :key="m.at">
          <td class="mono">{{ m.at }}</td>
          <td class="mono wrap">{{ m.store }}:{{ m.folder }}<span v-if="m.readOnly" class="soft"> read-only</span><span v-if="m.protocols?.length" class="soft"> over {{ m.protocols.join(', ').replaceAll(':ro', ' (to read)') }}</span></td>
          <td><QuotaBar v-if="m.quota && m.used" :used="m.used" :quota="m.quota" /></td>
          <td class="soft">{{ m.from }}</td>
        </tr>
      </tbody>
    </TableFrame>
  </div>
  <div>
    <h2>Grants</h2>
    <TableFrame label="Grants">
      <thead><tr><th>On</th><th>Rights</th><th>Count</th><th>Set by</th></tr></thead>
      <tbody>
        <tr v-for="(g, i) in now.grants" :key="i"><td class="mono">{{ g.path }}</td><td class="wrap">{{ g.rights.replaceAll(',', ', ') }}</td><td class="wrap">{{ g.conditions ?? 'always' }}</td><td class="soft">{{ g.from }}</td></tr>
      </tbody>
    </TableFrame>
  </div>
</template>

<style scoped>
.wrap { white-space: normal; min-width: 110px; }
td:first-child, th:first-child { padding-left: 0; }
</style>
