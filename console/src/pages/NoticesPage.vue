<script setup lang="ts">
import { NButton, NDrawer, useMessage } from 'naive-ui'
import { computed, onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { call, sentence, type Schemas } from '@/api/client'
import { minute, visible, zone } from '@/format'
import { useOperator } from '@/operator'
import HeldSheet from '@/parts/HeldSheet.vue'
import NoticeDetail from '@/parts/NoticeDetail.vue'
import NoticeForm from '@/parts/NoticeForm.vue'
import ReceiverSheet from '@/parts/ReceiverSheet.vue'
import TableFrame from '@/parts/TableFrame.vue'
import { filtersOf } from '@/parts/notice'

// Who is told about what, how that does, and what is wrong now.
const route = useRoute()
const router = useRouter()
const message = useMessage()
const mayChange = useOperator().mayChange()
const notices = ref<Schemas['Notice'][]>([])
const receivers = ref<Schemas['Receiver'][]>([])
const troubles = ref<Schemas['Trouble'][]>([])
const events = ref<Schemas['NoticeEvent'][]>([])
const adding = ref(false)
const read = ref(false)
const picked = computed(() => notices.value.find((n) => n.name === route.params.notice))

async function load() {
  try {
    const [all, who, wrong, kinds] = await Promise.all([
      call<Schemas['NoticePage']>('GET', '/notices'), call<Schemas['ReceiverPage']>('GET', '/receivers'),
      call<Schemas['TroublePage']>('GET', '/troubles'), call<Schemas['NoticeEventPage']>('GET', '/notice-events'),
    ])
    notices.value = all.items
    receivers.value = who.items
    troubles.value = wrong.items
    events.value = kinds.items
    read.value = true
  } catch (error) {
    message.error(sentence(error))
  }
}
onMounted(load)
function saved() {
  adding.value = false
  void load()
}
</script>

<template>
  <section class="page">
    <div class="head"><h1>Notices</h1><span class="soft">when this happens, tell them</span><NButton v-if="mayChange && !adding" type="primary" :disabled="!receivers.length" :title="receivers.length ? '' : 'Make a receiver first'" @click="adding = true">Add a notice</NButton></div>
    <div v-if="troubles.length" class="sheet">
      <header><h2>What is wrong now</h2></header>
      <TableFrame label="What is wrong now">
        <thead><tr><th>Since, {{ zone }}</th><th>Trouble</th><th>Of</th><th>What is wrong</th></tr></thead>
        <tbody><tr v-for="t in troubles" :key="t.kind + t.of"><td>{{ minute(t.since) }}</td><td class="warn">▲ {{ t.kind }}</td><td>{{ visible(t.of) }}</td><td class="wrap">{{ visible(t.says) }}</td></tr></tbody>
      </TableFrame>
    </div>
    <div class="sheet">
      <NoticeForm v-if="adding" :receivers="receivers" :events="events" @saved="saved" @close="adding = false" />
      <header><h2>Who is told about what</h2></header>
      <TableFrame label="Notices">
        <thead><tr><th>Notice</th><th>When</th><th>Only</th><th>Tells</th><th>State</th><th>Note</th></tr></thead>
        <tbody>
          <tr v-for="n in notices" :key="n.name" :class="{ over: n.off }">
            <td><RouterLink :to="`/notices/${n.name}`">{{ n.name }}</RouterLink></td>
            <td class="wrap">{{ n.events.join(', ') }}</td>
            <td class="wrap">{{ visible(filtersOf(n)) }}</td>
            <td class="wrap">{{ n.receivers.join(', ') }}</td>
            <td>{{ n.off ? '○ off' : '● on' }}</td>
            <td class="cut" :title="n.note">{{ n.note }}</td>
          </tr>
        </tbody>
      </TableFrame>
      <p v-if="read && !notices.length" class="none">Nobody is told about anything. {{ receivers.length ? '' : 'Make a receiver first.' }}</p>
    </div>
    <ReceiverSheet v-if="read" :receivers="receivers" :may-change="mayChange" @changed="load" />
    <HeldSheet :may-change="mayChange" />
    <NDrawer :aria-label="picked ? `Notice ${picked.name}` : ''" :show="Boolean(picked)" width="min(760px, 100vw)" :show-mask="false" :mask-closable="false" :trap-focus="false" :block-scroll="false" @update:show="router.push('/notices')">
      <NoticeDetail v-if="picked" :key="picked.name" :notice="picked" :receivers="receivers" :events="events" :may-change="mayChange" @changed="load" @close="router.push('/notices')" />
    </NDrawer>
  </section>
</template>

<style scoped>
.over td { color: var(--soft); }
td.wrap { white-space: normal; min-width: 140px; max-width: 360px; }
.warn { color: var(--copper); }
</style>
