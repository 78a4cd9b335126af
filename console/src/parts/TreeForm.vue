<script setup lang="ts">
import { NInput, NSelect } from 'naive-ui'
import { bundles } from './account'
import type { GrantRow, MountRow } from './tree'

const mounts = defineModel<MountRow[]>('mounts', { required: true })
const grants = defineModel<GrantRow[]>('grants', { required: true })
const names = (text: string) => ({ 'aria-label': text, spellcheck: false })
</script>

<template>
  <fieldset>
    <legend>Mounts <span class="soft">path, store and folder, options: ro,umask=007,bytes=2G,files=1000,protocols=sftp+ftp:ro</span></legend>
    <div v-for="(m, i) in mounts" :key="i" class="line">
      <NInput v-model:value="m.at" size="small" placeholder="/path" :input-props="names(`Path of mount ${i + 1}`)" />
      <NInput v-model:value="m.place" size="small" placeholder="store:folder" :input-props="names(`Store and folder of mount ${i + 1}`)" />
      <NInput v-model:value="m.options" size="small" placeholder="options" :input-props="names(`Options of mount ${i + 1}`)" />
      <button type="button" class="plain" :aria-label="`Take away mount ${i + 1}`" @click="mounts.splice(i, 1)">✕</button>
    </div>
    <button type="button" class="plain" @click="mounts.push({ at: '', place: 'files:', options: '' })">Add a mount</button>
  </fieldset>
  <fieldset>
    <legend>Grants <span class="soft">path, rights, when they count: only=*.tif;never=*.exe;days=mon-fri;hours=08:00-18:00;zone=Europe/Oslo</span></legend>
    <div v-for="(g, i) in grants" :key="i" class="line">
      <NInput v-model:value="g.path" size="small" placeholder="/path" :input-props="names(`Path of grant ${i + 1}`)" />
      <NSelect v-model:value="g.rights" size="small" :options="bundles" filterable tag :consistent-menu-width="false" :input-props="names(`Rights of grant ${i + 1}`)" />
      <NInput v-model:value="g.conditions" size="small" placeholder="always" :input-props="names(`Conditions of grant ${i + 1}`)" />
      <button type="button" class="plain" :aria-label="`Take away grant ${i + 1}`" @click="grants.splice(i, 1)">✕</button>
    </div>
    <button type="button" class="plain" @click="grants.push({ path: '/', rights: 'read-only', conditions: '' })">Add a grant</button>
  </fieldset>
</template>

<style scoped>
fieldset { border: 0; padding: 0; margin: 0; display: grid; gap: 6px; justify-items: start; }
legend { padding: 0 0 4px; font-weight: 600; }
legend .soft { font-weight: 400; font-size: 12px; display: block; }
.line { display: grid; grid-template-columns: 130px 1fr 1fr 18px; gap: 6px; align-items: center; width: 100%; }
@media (max-width: 599px) { .line { grid-template-columns: 1fr 1fr 18px; } }
</style>
