import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'
import type { Schemas, Session, Transfer } from './client'

const keptTransfers = 60

// What happens now, as the event stream tells it. Each message holds what
// changed; the first one after a gap holds everything.
export const useLive = defineStore('live', () => {
  const sessions = shallowRef<Map<string, Session>>(new Map())
  const transfers = shallowRef<Map<string, Transfer>>(new Map())
  const connected = ref(false)
  const upRate = ref(0)
  const downRate = ref(0)
  let source: EventSource | null = null
  let last = { at: 0, up: 0, down: 0 }

  function take(message: Schemas['Live']) {
    const nextSessions = new Map(message.full ? [] : sessions.value)
    for (const id of message.gone) nextSessions.delete(id)
    for (const s of message.sessions) nextSessions.set(s.id, s)
    sessions.value = nextSessions

    const merged = new Map(message.full ? [] : transfers.value)
    for (const t of message.transfers) merged.set(t.id, t)
    measure(message, transfers.value)
    const newest = [...merged.values()].sort(byNews).slice(0, keptTransfers)
    transfers.value = new Map(newest.map((t) => [t.id, t]))
  }

  // measure turns the bytes that moved since the message before into rates.
  function measure(message: Schemas['Live'], before: Map<string, Transfer>) {
    const now = Date.parse(message.now)
    let up = 0
    let down = 0
    for (const t of message.transfers) {
      const moved = t.bytes - (before.get(t.id)?.bytes ?? 0)
      if (t.action === 'upload') up += moved
      else down += moved
    }
    const seconds = (now - last.at) / 1000
    if (!message.full && seconds > 0) {
      upRate.value = up / seconds
      downRate.value = down / seconds
    }
    last = { at: now, up, down }
  }

  // A browser opens few connections to one host, and a stream keeps one for
  // itself: only a page that is seen has one.
  function follow() {
    if (document.visibilityState === 'hidden') disconnect()
    else connect()
  }

  function open() {
    document.addEventListener('visibilitychange', follow)
    window.addEventListener('pagehide', disconnect)
    window.addEventListener('pageshow', follow)
    follow()
  }

  function close() {
    document.removeEventListener('visibilitychange', follow)
    window.removeEventListener('pagehide', disconnect)
    window.removeEventListener('pageshow', follow)
    disconnect()
  }

  function connect() {
    if (source) return
    source = new EventSource('/api/v1/live')
    source.onopen = () => (connected.value = true)
    source.onerror = () => (connected.value = false) // the browser tries again by itself
    source.onmessage = (event) => take(JSON.parse(event.data as string) as Schemas['Live'])
  }

  function disconnect() {
    source?.close()
    source = null
    connected.value = false
  }

  const sessionRows = computed(() => [...sessions.value.values()])
  const transferRows = computed(() => [...transfers.value.values()].sort(byNews))
  const moving = computed(() => transferRows.value.filter((t) => t.outcome === 'running').length)

  return { sessionRows, transferRows, moving, connected, upRate, downRate, open, close }
})

// byNews puts running transfers first, then the newest.
function byNews(a: Transfer, b: Transfer): number {
  const running = Number(b.outcome === 'running') - Number(a.outcome === 'running')
  return running || b.started.localeCompare(a.started)
}
