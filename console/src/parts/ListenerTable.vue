<script setup lang="ts">
import type { Schemas } from '@/api/client'
import TableFrame from './TableFrame.vue'

type Listener = Schemas['Listener']
defineProps<{ listeners: Listener[]; picked?: string }>()
const emit = defineEmits<{ pick: [name: string] }>()

const names = { ftp: 'FTP, TLS on request', ftps: 'FTP over TLS', sftp: 'SFTP', web: 'Web' }

// rules are what is not as usual.
function rules(l: Listener): string[] {
  const list: string[] = []
  if (l.faces.length) list.push(l.faces.join(', '))
  if (l.redirect) list.push(`sends on to ${l.redirect}`)
  if (l.hosts.length) list.push(`as ${l.hosts.join(' ')}`)
  if (l.proxies.length) list.push(`behind ${l.proxies.join(' ')}`)
  if (l.certificate) list.push(`certificate ${l.certificate}`)
  if (l.allow.length) list.push(`only from ${l.allow.join(' ')}`)
  if (l.deny.length) list.push(`not from ${l.deny.join(' ')}`)
  if (l.advertise) list.push(`advertises ${l.advertise}`)
  if (!l.active && l.passiveLow) list.push('passive only')
  if (l.resumeData) list.push('data resumes TLS')
  if (l.clientCertificates) list.push('client certificates')
  return list
}
</script>

<template>
  <TableFrame label="Listeners">
    <thead><tr><th>Listener</th><th>State</th><th>Speaks</th><th>Address</th><th>Encryption</th><th>Passive ports</th><th>Rules</th></tr></thead>
    <tbody>
      <tr v-for="l in listeners" :key="l.name" class="pick" :class="{ picked: l.name === picked }" @click="emit('pick', l.name)">
        <td><button class="plain" @click.stop="emit('pick', l.name)">{{ l.name }}</button></td>
        <td :class="l.listening ? 'on' : 'off'">{{ l.listening ? '● listening' : l.stopped ? '– stopped' : '▲ can’t listen' }}</td>
        <td>{{ names[l.protocol] }}</td>
        <td class="mono">{{ l.listening || l.address }}</td>
        <td><span :class="{ warn: l.encryption !== 'required' && !(l.protocol === 'web' && (l.redirect || l.proxies.length || /^(127\.|\[::1\])/.test(l.listening))) }">{{ l.encryption }}</span></td>
        <td>
          <template v-if="l.passiveLow">{{ l.passiveLow }}–{{ l.passiveHigh }}<span v-if="l.passiveTaken" class="soft">, {{ l.passiveTaken }} taken</span></template>
          <div v-if="l.passiveRefused" class="warn">used up {{ l.passiveRefused }} times</div>
        </td>
        <td class="rules">{{ rules(l).join(', ') }}</td>
      </tr>
    </tbody>
  </TableFrame>
</template>

<style scoped>
.on { color: var(--spruce); }
.off { color: var(--soft); }
.warn { color: var(--copper); font-weight: 600; }
.rules { white-space: normal; min-width: 120px; }
</style>
