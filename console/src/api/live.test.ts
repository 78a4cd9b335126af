import { createPinia, setActivePinia } from 'pinia'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import type { Schemas, Session, Transfer } from './client'
import { useLive } from './live'

// Stream stands in for the browser's EventSource, which jsdom has not.
class Stream {
  static last: Stream
  onopen = () => {}
  onerror = () => {}
  onmessage = (_: { data: string }) => {}
  closed = false
  constructor(readonly url: string) {
    Stream.last = this
  }
  close() {
    this.closed = true
  }
  tell(message: Partial<Schemas['Live']>) {
    this.onmessage({ data: JSON.stringify({ full: false, now: '2026-03-01T00:00:00Z', sessions: [], gone: [], transfers: [], beat: { at: '0001-01-01T00:00:00Z', up: 0, down: 0, operations: 0 }, live: 0, running: 0, ...message }) })
  }
}

const session = (id: string, more: Partial<Session> = {}): Session => ({
  id, account: 'crew-' + id, address: '192.0.2.1', protocol: 'sftp', encrypted: true, cipher: '', client: '', started: '2026-03-01T00:00:00Z',
  active: '2026-03-01T00:00:00Z', doing: 'list', path: '/', up: 0, down: 0, ...more,
})

const transfer = (id: string, more: Partial<Transfer> = {}): Transfer => ({
  id, session: 's', account: 'crew', address: '192.0.2.1', protocol: 'sftp', encrypted: true, action: 'upload', path: '/' + id, offset: 0, total: -1,
  bytes: 0, rate: 0, started: '2026-03-01T00:00:00Z', seconds: 0, outcome: 'running', ...more,
})

describe('the live store', () => {
  beforeEach(() => {
    setActivePinia(createPinia())
    vi.stubGlobal('EventSource', Stream)
    vi.stubGlobal('fetch', () => Promise.reject(new Error('nothing there')))
  })
  afterEach(() => vi.unstubAllGlobals())

  it('puts together what the stream tells in pieces', () => {
    const live = useLive()
    live.open()
    Stream.last.tell({ full: true, sessions: [session('a'), session('b')] })
    Stream.last.tell({ moves: [{ id: 'b', doing: 'upload', path: '/f', active: '2026-03-01T00:00:09Z', up: 7, down: 0 }, { id: 'unknown', doing: 'list', path: '/', active: '', up: 0, down: 0 }] })
    Stream.last.tell({ gone: ['a'] })
    expect(live.sessionRows.map((s) => [s.id, s.doing, s.up])).toEqual([['b', 'upload', 7]])
  })

  it('forgets everything when it is told everything', () => {
    const live = useLive()
    live.open()
    Stream.last.tell({ full: true, sessions: [session('a')], transfers: [transfer('t')] })
    Stream.last.tell({ full: true, sessions: [session('c')] })
    expect(live.sessionRows.map((s) => s.id)).toEqual(['c'])
    expect(live.transferRows).toEqual([])
  })

  it('shows running transfers first, then the newest, and not too many', () => {
    const live = useLive()
    live.open()
    const ended = Array.from({ length: 80 }, (_, n) => transfer(`t${n}`, { outcome: 'done', started: `2026-03-01T00:01:${String(n % 60).padStart(2, '0')}Z`, ended: '2026-03-01T00:03:00Z' }))
    Stream.last.tell({ full: true, transfers: [...ended, transfer('runs')] })
    expect(live.transferRows).toHaveLength(61) // one that runs, and as many of the others
    expect(live.transferRows[0]?.id).toBe('runs')
    expect(live.transferRows[1]?.started).toBe('2026-03-01T00:01:59Z')
    expect(live.running).toHaveLength(1)
    Stream.last.tell({ transfers: [transfer('runs', { outcome: 'done', ended: '2026-03-01T00:03:00Z' })] })
    expect(live.running).toHaveLength(0)
  })

  it('follows how far transfers are, and what each second moved', () => {
    const live = useLive()
    live.open()
    Stream.last.tell({ full: true, transfers: [transfer('u', { bytes: 1000 }), transfer('gone')] })
    const beat = { at: '2026-03-01T00:00:02Z', up: 3000, down: 250, operations: 4 }
    Stream.last.tell({ now: '2026-03-01T00:00:02Z', progress: [{ id: 'u', bytes: 3000, rate: 1500, left: 8 }], gone: ['gone'], beat, live: 1000, running: 7 })
    Stream.last.tell({ beat })
    expect(live.running.map((t) => [t.bytes, t.rate, t.left, t.seconds])).toEqual([[3000, 1500, 8, 2]])
    expect(live.beats).toEqual([beat]) // told twice, kept once
    Stream.last.tell({ live: 1000, running: 7 })
    expect([live.living, live.moving]).toEqual([1000, 7])
  })

  it('keeps no stream for a page that nobody sees', () => {
    const live = useLive()
    live.open()
    const first = Stream.last
    window.dispatchEvent(new Event('pagehide'))
    expect(first.closed).toBe(true)
    window.dispatchEvent(new Event('pageshow'))
    expect(Stream.last).not.toBe(first)
    live.close()
    const second = Stream.last
    window.dispatchEvent(new Event('pageshow'))
    expect(Stream.last).toBe(second) // closed is closed
  })

  it('says when the stream is lost and found', () => {
    const live = useLive()
    live.open()
    const stream = Stream.last
    live.open()
    expect(Stream.last).toBe(stream) // one stream only
    stream.onopen()
    expect(live.connected).toBe(true)
    stream.onerror()
    expect(live.connected).toBe(false)
    live.close()
    expect(stream.closed).toBe(true)
  })
})
