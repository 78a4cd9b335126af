<script setup lang="ts">
import { NButton, NInput } from 'naive-ui'
import { computed, onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { call, sentence, type Schemas } from '@/api/client'
import HandoverSheet from '@/parts/HandoverSheet.vue'

// The sheet for whoever will connect as an account; there is no secret in it.
const route = useRoute()
const router = useRouter()
const sheet = ref<Schemas['Sheet'] | null>(null)
const host = ref('')
const wrong = ref('')
const path = computed(() => `/accounts/${String(route.params.account)}/handover?${new URLSearchParams({ host: String(route.query.host ?? '') })}`)

async function load() {
  host.value = String(route.query.host ?? '')
  wrong.value = ''
  try {
    sheet.value = await call<Schemas['Sheet']>('GET', path.value)
  } catch (error) {
    sheet.value = null
    wrong.value = sentence(error)
  }
}
onMounted(load)
watch(() => route.fullPath, load)
const again = () => router.push({ query: host.value ? { host: host.value } : {} })
const print = () => window.print()
</script>

<template>
  <section class="page">
    <div class="head no-print">
      <h1>Hand-over sheet</h1><span class="soft">of <RouterLink :to="`/accounts/${String(route.params.account)}`">{{ route.params.account }}</RouterLink></span>
      <form class="tools" @submit.prevent="again">
        <NInput v-model:value="host" placeholder="host: as the service is known" :input-props="{ 'aria-label': 'Host that they come to', name: 'host', spellcheck: false }" />
        <NButton attr-type="submit">Write it anew</NButton>
        <template v-if="sheet">
          <a :href="`/api/v1${path}&format=text`" :download="`${sheet.account}.txt`">Text</a>
          <a :href="`/api/v1${path}&format=markdown`" :download="`${sheet.account}.md`">Markdown</a>
          <NButton type="primary" @click="print">Print</NButton>
        </template>
      </form>
    </div>
    <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
    <HandoverSheet v-if="sheet" :sheet="sheet" />
  </section>
</template>

<style scoped>
.head h1, .head .soft { white-space: nowrap; }
.tools { display: flex; flex-wrap: wrap; gap: 10px; align-items: center; }
.tools > :first-child { width: 230px; }
</style>
