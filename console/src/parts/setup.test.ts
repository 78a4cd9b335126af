import { enableAutoUnmount, flushPromises, mount } from '@vue/test-utils'
import { NMessageProvider } from 'naive-ui'
import { createPinia, setActivePinia } from 'pinia'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { h, type Component } from 'vue'
import { createMemoryHistory, createRouter } from 'vue-router'
import { useOperator } from '@/operator'
import HandoverPage from '@/pages/HandoverPage.vue'
import PasswordPage from '@/pages/PasswordPage.vue'
import StepsPage from '@/pages/StepsPage.vue'
import FindingTable from './FindingTable.vue'
import OwnSignIn from './OwnSignIn.vue'

// answers stands for the service: what a method and path answer, and what was sent to them.
type Answer = [status: number, body?: unknown]
function answers(known: Record<string, Answer | ((body: unknown) => Answer)>) {
  const sent: [string, unknown][] = []
  vi.stubGlobal('fetch', async (path: string, { method, body }: { method: string; body?: string }) => {
    const what = `${method} ${path.replace('/api/v1', '').split('?')[0]}`
    const parsed = body ? JSON.parse(body) : undefined
    if (method !== 'GET') sent.push([what, parsed])
    const answer = known[what]
    const [status, reply] = typeof answer === 'function' ? answer(parsed) : (answer ?? [404, { detail: `nothing at ${what}` }])
    return new Response(status === 204 ? null : JSON.stringify(reply), { status })
  })
  return sent
}

async function shown(page: Component, at = '/') {
  const router = createRouter({ history: createMemoryHistory(), routes: [{ path: '/handover/:account', component: page }, { path: '/:rest(.*)*', component: page }] })
  await router.push(at)
  const all = mount({ render: () => h(NMessageProvider, () => h(page)) }, { global: { plugins: [router] } })
  await flushPromises()
  return all
}
const press = async (page: Awaited<ReturnType<typeof shown>>, text: string) => {
  await page.findAll('button').find((b) => b.text() === text)!.trigger('click')
  await flushPromises()
}
const submit = async (page: Awaited<ReturnType<typeof shown>>) => {
  await page.get('form').trigger('submit')
  await flushPromises()
}

beforeEach(() => {
  setActivePinia(createPinia())
  useOperator().me = { operator: 'ilse', role: 'owner', codes: false, source: 'own', created: '2026-03-01T00:00:00Z' }
})
enableAutoUnmount(afterEach)
afterEach(() => vi.unstubAllGlobals())

describe('findings', () => {
  it('carry their state in a word, and show control characters of names', () => {
    const page = mount(FindingTable, { props: { label: 'Findings', findings: [{ check: 'key', of: 'ann\u202e', state: 'warning', says: 'it is shared', do: 'make another' }] } })
    expect(page.text()).toContain('warning')
    expect(page.text()).toContain('ann\\u202e')
    expect(page.text()).toContain('→ make another')
  })
})

describe('the set-up', () => {
  const step = (name: string, state: string, check: unknown[] = []) => ({ step: name, title: `About ${name}`, why: `because of ${name}`, state, says: '', check })
  const walk = (steps: ReturnType<typeof step>[]) =>
    answers({
      'GET /setup-steps': () => [200, { items: steps }],
      'GET /accounts': [200, { items: [] }],
      'GET /listeners': [200, { items: [] }],
      'GET /stores': [200, { items: [] }],
      'GET /service': [200, { name: '', host: '' }],
      'PATCH /service': [200, { name: 'Office', host: 'localhost' }],
      ...Object.fromEntries(
        steps.map((s) => [
          `PUT /setup-steps/${s.step}`,
          (ask: { state: string }) => {
            s.state = ask.state
            return [204]
          },
        ]),
      ),
    })
  it('begins at the first open step, goes on when one is left for later, and shows what a check-up says', async () => {
    const steps = [step('name', 'done'), step('host', 'done'), step('handover', 'done'), step('listeners', 'open', [{ check: 'listener', of: 'ftp', state: 'fault', says: 'it does not answer', do: 'see the log' }]), step('passive', 'open')]
    const sent = walk(steps)
    const page = await shown(StepsPage)
    expect(page.text()).toContain('The first four steps are taken')
    expect(page.get('.one').text()).toContain('because of listeners')
    expect(page.get('.one').text()).toContain('it does not answer')
    await press(page, 'Later')
    expect(sent).toEqual([['PUT /setup-steps/listeners', { state: 'skipped' }]])
    expect(page.get('.one').text()).toContain('because of passive')
    expect(page.get('nav').text()).toContain('skipped')
  })
  it('has a form for the step, takes name and address at once, and goes on when it is saved', async () => {
    const sent = walk([step('name', 'open'), step('host', 'open'), step('handover', 'open')])
    const page = await shown(StepsPage)
    expect(page.text()).toContain('2 of the first four steps are open')
    await submit(page)
    expect(sent).toEqual([['PATCH /service', { name: '', host: '' }], ['PUT /setup-steps/name', { state: 'done' }], ['PUT /setup-steps/host', { state: 'done' }]])
    expect(page.get('.one').text()).toContain('because of handover')
  })
})

describe('a hand-over sheet', () => {
  it('says what is missing where it can not be written', async () => {
    answers({ 'GET /accounts/ann/handover': [422, { detail: 'nobody said under which address clients reach the service', field: 'host' }] })
    const page = await shown(HandoverPage, '/handover/ann')
    expect(page.get('[role=alert]').text()).toContain('Nobody said under which address')
    expect(page.find('article').exists()).toBe(false)
  })
  it('shows names as text, never as markup', async () => {
    answers({ 'GET /accounts/ann/handover': [200, { title: 'how to connect as <b>ann</b>', account: 'ann', created: '2026-03-01T00:00:00Z', sections: [{ title: 'Where', rows: [{ label: 'Host', text: '<i>x</i>' }], commands: [{ for: 'sftp', line: 'sftp ann@x' }] }] }] })
    const page = await shown(HandoverPage, '/handover/ann')
    expect(page.get('article').text()).toContain('<b>ann</b>')
    expect(page.find('article i').exists()).toBe(false)
    expect(page.get('pre').text()).toBe('sftp ann@x')
  })
})

describe('a password link', () => {
  afterEach(() => history.replaceState(null, '', '/'))
  it('is spent by the button, not by looking', async () => {
    history.replaceState(null, '', '/password#SECRET')
    const sent = answers({ 'POST /password-links/open': [200, { account: 'ann', password: 'tide-table-7' }] })
    const page = await shown(PasswordPage)
    expect(sent).toEqual([])
    await submit(page)
    expect(sent).toEqual([['POST /password-links/open', { secret: 'SECRET' }]])
    expect(page.text()).toContain('tide-table-7')
    expect(location.hash).toBe('')
  })
  it('says so when it was spent before', async () => {
    history.replaceState(null, '', '/password#SPENT')
    answers({ 'POST /password-links/open': [404, { detail: 'this link was used before' }] })
    const page = await shown(PasswordPage)
    await submit(page)
    expect(page.get('[role=alert]').text()).toContain('This link was used before')
  })
})

describe('an operator’s own sign-in', () => {
  it('asks for codes only once the operator has shown one, and shows recovery codes once', async () => {
    answers({
      'POST /me/codes': [201, { secret: 'ABCDEFGH', uri: 'otpauth://totp/x', picture: 'AAAA' }],
      'PUT /me/codes': (body) => ((body as { code: string }).code === '123456' ? [200, { recovery: ['aaaa-bbbb'] }] : [422, { detail: 'it is not what this secret gives now', field: 'code' }]),
      'GET /me': [200, { operator: 'ilse', role: 'owner', codes: true, created: '2026-03-01T00:00:00Z' }],
    })
    const page = await shown(OwnSignIn)
    expect(page.text()).toContain('ilse: a password alone')
    await press(page, 'Switch one-time codes on')
    expect(page.text()).toContain('ABCDEFGH')
    await page.get('input[name=code]').setValue('000000')
    await submit(page)
    expect(page.get('[role=alert]').text()).toContain('It is not what this secret gives now')
    await page.get('input[name=code]').setValue('123456')
    await submit(page)
    expect(page.text()).toContain('aaaa-bbbb')
    expect(page.text()).toContain('a password, then a one-time code')
    await press(page, 'I have kept them')
    expect(page.text()).not.toContain('aaaa-bbbb')
  })
})
