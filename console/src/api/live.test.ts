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
    this.onmessage({ data: JSON.stringify({ full: false, now: '2026-03-01T00:00:00Z', sessions: [], gone: [], transfers: [], ...message }) })
  }
}

const session = (id: string, more: Partial<Session> = {}): Session => ({
  id, account: 'crew-' + id, address: '192.0.2.1', protocol: 'sftp', encrypted: true, cipher: '', client: '', since: '2026-03-01T00:00:00Z',
  active: '2026-03-01T00:00:00Z', doing: 'list', path: '/', up: 0, down: 0, ...more,
})

const transfer = (id: string, more: Partial<Transfer> = {}): Transfer => ({
  id, session: 's', account: 'crew', address: '192.0.2.1', protocol: 'sftp', encrypted: true, action: 'upload', path: '/' + id, offset: 0, total: -1,
  bytes: 0, started: '2026-03-01T00:00:00Z', seconds: 0, outcome: 'running', ...more,
})

describe('the live store', () => {
  beforeEach(() => {
    setActivePinia(createPinia())
    vi.stubGlobal('EventSource', Stream)
  })
  afterEach(() => vi.unstubAllGlobals())

  it('puts together what the stream tells in pieces', () => {
    const live = useLive()
    live.open()
    Stream.last.tell({ full: true, sessions: [session('a'), session('b')] })
    Stream.last.tell({ sessions: [session('b', { doing: 'upload', path: '/f' })] })
    Stream.last.tell({ gone: ['a'] })
    expect(live.sessionRows.map((s) => [s.id, s.doing])).toEqual([['b', 'upload']])
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
    expect(live.transferRows).toHaveLength(60)
    expect(live.transferRows[0]?.id).toBe('runs')
    expect(live.transferRows[1]?.started).toBe('2026-03-01T00:01:59Z')
    expect(live.moving).toBe(1)
    Stream.last.tell({ transfers: [transfer('runs', { outcome: 'done', ended: '2026-03-01T00:03:00Z' })] })
    expect(live.moving).toBe(0)
  })

  it('tells rates from what moved between two messages', () => {
    const live = useLive()
    live.open()
    Stream.last.tell({ full: true, now: '2026-03-01T00:00:00Z', transfers: [transfer('u', { bytes: 1_000_000 })] })
    expect(live.upRate).toBe(0) // what moved before we looked is no rate
    Stream.last.tell({ now: '2026-03-01T00:00:02Z', transfers: [transfer('u', { bytes: 3_000_000 }), transfer('d', { action: 'download', bytes: 500 })] })
    expect(live.upRate).toBe(1_000_000)
    expect(live.downRate).toBe(250)
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
