import { defineStore } from 'pinia'
import { computed, ref, shallowRef, triggerRef } from 'vue'
import { call, type Schemas, type Session, type Transfer } from './client'

const keptTransfers = 60
const keptBeats = 600

// What happens now, as the event stream tells it. Each message holds what
// changed; the first one after a gap holds everything.
export const useLive = defineStore('live', () => {
  const sessions = shallowRef<Map<string, Session>>(new Map())
  const transfers = shallowRef<Map<string, Transfer>>(new Map())
  const beats = shallowRef<Schemas['Beat'][]>([])
  const connected = ref(false)
  const living = ref(0) // sessions, as the service counts them
  const moving = ref(0) // transfers
  let source: EventSource | null = null

  function take(message: Schemas['Live']) {
    if (message.full) {
      sessions.value.clear()
      transfers.value.clear()
      void remember()
    }
    for (const id of message.gone) {
      sessions.value.delete(id)
      transfers.value.delete(id)
    }
    for (const s of message.sessions) sessions.value.set(s.id, s)
    for (const m of message.moves ?? []) {
      const known = sessions.value.get(m.id)
      if (known) sessions.value.set(m.id, { ...known, ...m })
    }
    for (const t of message.transfers) transfers.value.set(t.id, t)
    for (const p of message.progress ?? []) {
      const known = transfers.value.get(p.id)
      if (known) transfers.value.set(p.id, { ...known, left: undefined, ...p, seconds: (Date.parse(message.now) - Date.parse(known.started)) / 1000 })
    }
    const ended = [...transfers.value.values()].filter((t) => t.outcome !== 'running').sort(byNews)
    for (const t of ended.slice(keptTransfers)) transfers.value.delete(t.id)
    if (message.beat.at > (beats.value.at(-1)?.at ?? '') && Date.parse(message.beat.at) > 0) beats.value = [...beats.value, message.beat].slice(-keptBeats)
    living.value = message.live
    moving.value = message.running
    triggerRef(sessions)
    triggerRef(transfers)
  }

  // remember asks for the seconds before the stream began.
  async function remember() {
    const before = (await call<Schemas['BeatPage']>('GET', '/beats').catch(() => null))?.items ?? []
    const last = before.at(-1)?.at ?? ''
    beats.value = [...before, ...beats.value.filter((b) => b.at > last)].slice(-keptBeats)
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

  // Who did something last stands first.
  const sessionRows = computed(() => [...sessions.value.values()].sort((a, b) => later(a.active, b.active) || later(a.id, b.id)))
  const transferRows = computed(() => [...transfers.value.values()].sort(byNews))
  const running = computed(() => transferRows.value.filter((t) => t.outcome === 'running'))
  const beat = computed(() => beats.value.at(-1))

  return { sessionRows, transferRows, running, beats, beat, living, moving, connected, open, close }
})

// later compares texts so that the greater one comes first; times are such texts.
const later = (a: string, b: string) => (a < b ? 1 : a > b ? -1 : 0)

// byNews puts running transfers first, then the newest.
function byNews(a: Transfer, b: Transfer): number {
  return Number(b.outcome === 'running') - Number(a.outcome === 'running') || later(a.started, b.started)
}
