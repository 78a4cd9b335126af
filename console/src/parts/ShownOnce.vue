<script setup lang="ts">
import { NButton } from 'naive-ui'
import { ref } from 'vue'

// A secret that is stored nowhere in this form: a short one to read, a long one
// to save as a file.
const props = defineProps<{ say: string; secret: string; file?: string }>()
const copied = ref(false)
async function copy() {
  await navigator.clipboard.writeText(props.secret)
  copied.value = true
}
const asFile = () => URL.createObjectURL(new Blob([props.secret], { type: 'application/octet-stream' }))
</script>

<template>
  <div class="once">
    <p>{{ say }}, shown this once. Hand it over by another way than the name.</p>
    <p class="row">
      <code v-if="!file">{{ secret }}</code>
      <a v-if="file" :href="asFile()" :download="file">Save {{ file }}</a>
      <NButton size="small" @click="copy">{{ copied ? 'Copied' : 'Copy' }}</NButton>
    </p>
  </div>
</template>

<style scoped>
.once { background: var(--copper-wash); border-left: 3px solid var(--copper); padding: 10px 14px; }
.once p { margin: 0 0 6px; }
code { font-size: 16px; }
a { font-weight: 600; }
</style>
