<script setup lang="ts">
import { NButton } from 'naive-ui'
import { ref } from 'vue'

// A generated password, which is stored nowhere in this form.
const props = defineProps<{ account: string; password: string }>()
const copied = ref(false)
async function copy() {
  await navigator.clipboard.writeText(props.password)
  copied.value = true
}
</script>

<template>
  <div class="once">
    <p>The password of <b>{{ account }}</b>, shown this once. Hand it over by another way than the name.</p>
    <p class="row"><code>{{ password }}</code><NButton size="small" @click="copy">{{ copied ? 'Copied' : 'Copy' }}</NButton></p>
  </div>
</template>

<style scoped>
.once { background: var(--copper-wash); border-left: 3px solid var(--copper); padding: 10px 14px; }
.once p { margin: 0 0 6px; }
code { font-size: 16px; }
</style>
