<script setup lang="ts">
import { useMessage } from 'naive-ui'
import { onMounted, ref } from 'vue'
import { call, sentence, type Schemas, type Session } from '@/api/client'
import { useLive } from '@/api/live'
import { moment, rate } from '@/format'
import { useOperator } from '@/operator'
import SessionTable from '@/parts/SessionTable.vue'
import TransferTable from '@/parts/TransferTable.vue'

const live = useLive()
const operator = useOperator()
const message = useMessage()
const status = ref<Schemas['Status'] | null>(null)

onMounted(async () => {
  try {
    status.value = await call('GET', '/status')
  } catch (error) {
    message.error(sentence(error))
  }
})

async function end(session: Session) {
  try {
    await call('DELETE', `/sessions/${session.id}`)
    message.success(`The session of ${session.account} was ended.`)
  } catch (error) {
    message.error(sentence(error))
  }
}
</script>

<template>
  <section class="page">
    <div class="head">
      <h1>Overview</h1>
      <span v-if="status" class="soft">running since {{ moment(status.started) }} UTC</span>
    </div>
    <dl class="strip sheet">
      <div><dt>Sessions</dt><dd>{{ live.sessionRows.length }}</dd></div>
      <div><dt>Transfers running</dt><dd>{{ live.moving }}</dd></div>
      <div><dt>Coming in</dt><dd>{{ rate(live.upRate) }}</dd></div>
      <div><dt>Going out</dt><dd>{{ rate(live.downRate) }}</dd></div>
      <div v-for="l in status?.listeners" :key="l.name"><dt>{{ l.name.toUpperCase() }}</dt><dd class="address">{{ l.listening || 'stopped' }}</dd></div>
    </dl>
    <div class="sheet">
      <header><h2>Live sessions</h2></header>
      <SessionTable :rows="live.sessionRows" :may-end="operator.mayChange()" @end="end" />
    </div>
    <div class="sheet">
      <header><h2>Newest transfers</h2><span class="soft">times in UTC</span></header>
      <TransferTable :rows="live.transferRows" />
    </div>
  </section>
</template>

<style scoped>
.strip { display: flex; margin: 0; }
.strip div { flex: 1; padding: 10px 14px; border-left: 1px solid var(--line); }
.strip div:first-child { border-left: 0; }
dt { font-size: 12px; color: var(--soft); }
dd { margin: 0; font-size: 18px; font-weight: 600; white-space: nowrap; }
dd.address { font-size: 13px; font-weight: 400; line-height: 26px; }
</style>
