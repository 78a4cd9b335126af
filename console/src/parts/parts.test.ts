import { mount, RouterLinkStub } from '@vue/test-utils'
import { describe, expect, it } from 'vitest'
import type { Account, Session, Transfer } from '@/api/client'
import { homeOf, rightsOf } from './account'
import OutcomeMark from './OutcomeMark.vue'
import OverMark from './OverMark.vue'
import QuotaBar from './QuotaBar.vue'
import SessionTable from './SessionTable.vue'
import TransferTable from './TransferTable.vue'
import { changed } from './settings'
import { grantRow, grantText, mountRow, mountText } from './tree'

const account = (more: Partial<Account>): Account => ({
  name: 'crew', note: '', state: 'active', source: 'own', signInBy: 'either', means: 'nothing yet', canSignIn: false, hasPassword: false, keys: 0, mail: '', mustChange: false, plain: false, groups: [], settings: {}, mounts: [], grants: [], inForce: { mounts: [], grants: [] }, sessions: 0, created: '', changed: '', ...more,
})

describe('an account in one line', () => {
  it('says where its home is and what it may do', () => {
    const a = account({
      inForce: {
        mounts: [{ at: '/maps', store: 'files', folder: 'maps', readOnly: true, from: 'group crews' }, { at: '/', store: 'files', folder: '{account}', readOnly: false, from: 'account' }],
        grants: [{ path: '/', rights: 'read-only', from: 'account' }, { path: '/in', rights: 'full', from: 'account' }],
      },
    })
    expect(homeOf(a)).toBe('files:{account}')
    expect(rightsOf(a)).toBe('read-only +1')
    expect(rightsOf(account({}))).toBe('none')
  })
})

describe('rows of a form', () => {
  it('say mounts and grants as the service reads them', () => {
    expect(mountText(mountRow({ at: '/in', store: 'files', folder: 'in', readOnly: true, umask: '007', quota: { bytes: 2048, files: 3 } }))).toBe('/in=files:in,ro,umask=007,bytes=2048,files=3')
    expect(mountText(mountRow({ at: '/in', store: 'files', folder: 'in', readOnly: false, protocols: ['sftp', 'ftp:ro'], check: { receiver: 'scanner', within: 600, unanswered: 'yes', refused: 'bad' } }))).toBe('/in=files:in,protocols=sftp+ftp:ro,check=scanner,check-time=600,unanswered=yes,refused=bad')
    expect(grantText(grantRow({ path: '/', rights: 'full', never: ['*.exe'], window: { days: 'mon-fri', hours: '08:00-18:00' } }))).toBe('/=full;never=*.exe;days=mon-fri;hours=08:00-18:00')
    expect(changed({ umask: '027', idleTime: '10m' }, { umask: '', idleTime: '10m', speedUp: '2MiB' })).toEqual({ umask: null, speedUp: '2MiB' })
  })

  it('show how full a quota is, by a word too', () => {
    const bar = (used: number) => mount(QuotaBar, { props: { used: { bytes: used, files: 1 }, quota: { bytes: 100, files: 0 } } }).text()
    expect(bar(10)).not.toContain('full')
    expect(bar(90)).toContain('nearly full')
    expect(bar(100)).toMatch(/(?<!nearly )full/)
  })
})

describe('marks', () => {
  it('carry each outcome by a word and a shape of its own', () => {
    const shapes = new Set<string>()
    for (const outcome of ['running', 'done', 'refused', 'failed', 'interrupted']) {
      const mark = mount(OutcomeMark, { props: { outcome, reason: 'no-right' } })
      expect(mark.text()).toContain(outcome)
      expect(mark.text()).toContain('no right')
      shapes.add(mark.get('i').text())
    }
    expect(shapes.size).toBe(5)
  })

  it('say what went in clear', () => {
    expect(mount(OverMark, { props: { protocol: 'ftp', encrypted: false } }).text()).toContain('in clear')
    expect(mount(OverMark, { props: { protocol: 'ftp', encrypted: true } }).text()).toBe('FTP + TLS')
  })
})

const transfer = (more: Partial<Transfer>): Transfer => ({
  id: 't', session: 's', account: 'crew', address: '192.0.2.1', protocol: 'sftp', encrypted: true, action: 'upload', path: '/f', offset: 0, total: -1, bytes: 0, rate: 0,
  started: '2026-03-01T00:00:00Z', seconds: 2, outcome: 'done', ...more,
})

const plain = { mayEnd: false, label: 'Transfers', none: 'Nothing yet.' }

describe('tables', () => {
  it('show how far a running transfer is', () => {
    const table = mount(TransferTable, { props: { ...plain, rows: [transfer({ outcome: 'running', action: 'download', offset: 20, bytes: 30, total: 200, rate: 1024, left: 12 })] } })
    expect(table.get('tbody tr').attributes('style')).toContain('--part: 25%')
    for (const text of ['↓ download', '25%', '1.0 KiB/s', '12.0 s left']) expect(table.text()).toContain(text)
  })

  it('show names that would steer a terminal as escapes', () => {
    expect(mount(TransferTable, { props: { ...plain, rows: [transfer({ path: '/a\u001bb' })] } }).text()).toContain('/a\\u001bb')
  })

  it('say when there is nothing', () => {
    expect(mount(TransferTable, { props: { ...plain, rows: [] } }).text()).toBe('Nothing yet.')
    const global = { stubs: { RouterLink: RouterLinkStub } }
    expect(mount(SessionTable, { props: { rows: [], mayEnd: true, now: 0 }, global }).text()).toBe('Nobody is signed in.')
  })

  it('let a session be ended by who may, and say how long it did nothing', () => {
    const row: Session = {
      id: 's', account: 'crew', address: '192.0.2.1', protocol: 'ftp', encrypted: false, cipher: '', client: '', started: '2026-03-01T00:00:00Z',
      active: '2026-03-01T00:00:00Z', doing: 'list', path: '/', up: 0, down: 0,
    }
    const global = { stubs: { RouterLink: RouterLinkStub, EndButton: true } }
    const now = Date.parse('2026-03-01T00:01:05Z')
    const table = mount(SessionTable, { props: { rows: [row], mayEnd: true, now }, global })
    expect(table.text()).toContain('1 min 5 s')
    expect(table.get('end-button-stub').attributes('path')).toBe('/sessions/s')
    expect(mount(SessionTable, { props: { rows: [row], mayEnd: false, now }, global }).find('end-button-stub').exists()).toBe(false)
  })
})
