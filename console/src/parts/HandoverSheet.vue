<script setup lang="ts">
import { useMessage } from 'naive-ui'
import type { Schemas } from '@/api/client'
import { day } from '@/format'

// The sheet for whoever will connect as an account; there is no secret in it.
defineProps<{ sheet: Schemas['Sheet'] }>()
const message = useMessage()
async function copy(text: string) {
  await navigator.clipboard.writeText(text)
  message.success('Copied.')
}
</script>

<template>
  <article class="sheet">
    <h2 class="title">{{ sheet.title }}</h2>
    <section v-for="s in sheet.sections" :key="s.title" :aria-label="s.title">
      <h3>{{ s.title }}</h3>
      <dl v-if="s.rows.length">
        <template v-for="(r, i) in s.rows" :key="i"><dt>{{ r.label }}</dt><dd>{{ r.text }}</dd></template>
      </dl>
      <div v-for="(c, i) in s.commands" :key="i" class="command">
        <span class="soft">{{ c.for }}</span><button class="plain no-print" :aria-label="`Copy: ${c.for}`" @click="copy(c.line)">Copy</button>
        <pre class="mono" tabindex="0" :aria-label="c.for">{{ c.line }}</pre>
      </div>
    </section>
    <p class="soft foot">Made on {{ day(sheet.created) }}. No secret is in this sheet.</p>
  </article>
</template>

<style scoped>
article { padding: clamp(14px, 2.5vw, 26px); max-width: 900px; }
.title { font-size: 18px; margin-bottom: 6px; }
h3 { font-size: 14px; margin: 18px 0 6px; border-bottom: 1px solid var(--line); padding-bottom: 3px; }
dl { margin: 0; display: grid; grid-template-columns: minmax(84px, 150px) minmax(0, 1fr); gap: 4px 14px; }
dt { color: var(--soft); }
dd { margin: 0; overflow-wrap: anywhere; }
.command { margin-top: 10px; }
.command button { margin-left: 10px; }
pre { margin: 3px 0 0; padding: 8px 10px; background: var(--ground); border-radius: 3px; white-space: pre-wrap; overflow-wrap: anywhere; max-height: 150px; overflow: auto; }
.foot { margin: 18px 0 0; }
@media print { pre { max-height: none; } article { border: 0; } }
</style>
