<script setup lang="ts">
import { NButton, NDrawer, useMessage } from 'naive-ui'
import { computed, onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { call, sentence, type Schemas } from '@/api/client'
import { useOperator } from '@/operator'
import CertificateSheet from '@/parts/CertificateSheet.vue'
import CollectorSheet from '@/parts/CollectorSheet.vue'
import MailSheet from '@/parts/MailSheet.vue'
import IdentitySheet from '@/parts/IdentitySheet.vue'
import HostKeys from '@/parts/HostKeys.vue'
import ListenerForm from '@/parts/ListenerForm.vue'
import ListenerTable from '@/parts/ListenerTable.vue'
import RetentionSheet from '@/parts/RetentionSheet.vue'

const route = useRoute()
const router = useRouter()
const message = useMessage()
const mayChange = useOperator().mayChange()
const listeners = ref<Schemas['Listener'][]>([])
const adding = computed(() => route.query.add !== undefined)
const picked = computed(() => listeners.value.find((l) => l.name === route.params.listener))

async function load() {
  try {
    listeners.value = (await call<Schemas['ListenerPage']>('GET', '/listeners')).items
  } catch (error) {
    message.error(sentence(error))
  }
}
onMounted(load)

const close = () => router.push('/settings')
async function changed() {
  await load()
  if (adding.value || !picked.value) await close()
}
</script>

<template>
  <section class="page">
    <div class="head">
      <h1>Settings</h1>
      <NButton v-if="mayChange" type="primary" @click="router.push('/settings?add')">Add a listener</NButton>
    </div>
    <IdentitySheet :may-change="mayChange" />
    <div id="listeners" class="sheet">
      <header><h2>Listeners</h2><span class="soft">sessions that are open stay when one is changed</span></header>
      <ListenerTable :listeners="listeners" :picked="picked?.name" @pick="(name) => router.push(`/settings/${name}`)" />
    </div>
    <CertificateSheet :may-change="mayChange" />
    <HostKeys :may-change="mayChange" />
    <MailSheet :may-change="mayChange" />
    <CollectorSheet :may-change="mayChange" />
    <RetentionSheet :may-change="mayChange" />
    <NDrawer :aria-label="picked ? `Listener ${picked.name}` : 'Add a listener'" :show="Boolean(picked) || adding" width="min(520px, 100vw)" :show-mask="false" :mask-closable="false" :trap-focus="false" :block-scroll="false" @update:show="close">
      <ListenerForm v-if="adding" :may-change="mayChange" @changed="changed" @close="close" />
      <ListenerForm v-else-if="picked" :key="JSON.stringify(picked)" :listener="picked" :may-change="mayChange" @changed="changed" @close="close" />
    </NDrawer>
  </section>
</template>
