<script setup lang="ts">
import { NInput, NSelect } from 'naive-ui'
import type { Schemas } from '@/api/client'
import { proofs } from './account'
import TableFrame from './TableFrame.vue'

// A row for each setting: what is set here, and what is in force where nothing is.
const props = defineProps<{ known: Schemas['SettingPage']['items']; inForce?: Schemas['SettingInForce'][] }>()
const texts = defineModel<Record<string, string>>({ required: true })

const choices: Record<string, { label: string; value: string }[]> = {
  signInBy: proofs,
  encryption: [
    { label: 'required', value: 'required' },
    { label: 'optional: plain FTP allowed', value: 'optional' },
    { label: 'as the listener says', value: 'listener' },
  ],
}
function otherwise(name: string): string {
  const now = props.inForce?.find((s) => s.name === name)
  if (!now) return 'not set'
  return now.from === 'account' ? 'left to the groups' : now.say + (now.from ? `, from ${now.from}` : '')
}
</script>

<template>
  <TableFrame label="Settings">
    <thead><tr><th>Setting</th><th>{{ inForce ? 'Value here; empty leaves it to the groups' : 'Value; empty sets nothing' }}</th></tr></thead>
    <tbody>
      <tr v-for="s in known" :key="s.name" :title="s.help">
        <td>{{ s.label }}</td>
        <td>
          <NSelect v-if="choices[s.name]" :value="texts[s.name] || null" size="small" clearable :options="choices[s.name]" :placeholder="otherwise(s.name)" :input-props="{ 'aria-label': s.label }" @update:value="(v: string | null) => (texts[s.name] = v ?? '')" />
          <NInput v-else v-model:value="texts[s.name]" size="small" :placeholder="otherwise(s.name)" :input-props="{ 'aria-label': s.label, spellcheck: false }" />
        </td>
      </tr>
    </tbody>
  </TableFrame>
</template>

<style scoped>
td { padding: 3px 0; vertical-align: middle; border-bottom: 0; }
td:first-child, th:first-child { padding-left: 0; width: 170px; }
</style>
