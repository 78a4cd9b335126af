<script setup lang="ts">
import { NButton, NInput } from 'naive-ui'
import { reactive, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import { visible } from '@/format'

// Tries a source step by step.
const props = defineProps<{ source: Schemas['Source'] }>()
defineEmits<{ close: [] }>()
const ask = reactive({ account: '', password: '' })
const steps = ref<Schemas['Step'][]>([])
const busy = ref(false)
const wrong = ref('')
async function check() {
  busy.value = true
  wrong.value = ''
  try {
    steps.value = (await call<Schemas['SourceTried']>('POST', `/sources/${props.source.name}/check`, ask)).steps
  } catch (error) {
    wrong.value = sentence(error)
  } finally {
    busy.value = false
    ask.password = ''
  }
}
</script>

<template>
  <form class="fields" @submit.prevent="check">
    <h2>Check {{ source.name }}</h2>
    <label>Account that is looked for; empty for none<NInput v-model:value="ask.account" placeholder="" autofocus :input-props="{ name: 'check-account', spellcheck: false, autocapitalize: 'none' }" /></label>
    <label>Its password, to try that too<NInput v-model:value="ask.password" type="password" placeholder="" :disabled="!ask.account" :input-props="{ name: 'check-password', autocomplete: 'off' }" /></label>
    <ol v-if="steps.length" role="status">
      <li v-for="s in steps" :key="s.step + s.say" :class="{ no: !s.ok }"><b>{{ s.ok ? '✓' : '✗ NO' }} {{ s.step }}</b> {{ visible(s.say) }}</li>
    </ol>
    <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
    <div class="row"><NButton type="primary" attr-type="submit" :loading="busy">Check</NButton><NButton @click="$emit('close')">Close</NButton></div>
  </form>
</template>

<style scoped>
.fields { grid-template-columns: repeat(auto-fit, minmax(min(280px, 100%), 1fr)); max-width: 900px; align-items: end; }
.fields > h2, .fields > p, ol, .row { grid-column: 1 / -1; margin: 0; }
ol { padding-left: 1.4em; display: grid; gap: 4px; overflow-wrap: anywhere; }
.no { color: var(--brick); }
</style>
