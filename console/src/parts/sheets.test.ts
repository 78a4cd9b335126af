import { flushPromises, mount } from '@vue/test-utils'
import { NMessageProvider } from 'naive-ui'
import { afterEach, describe, expect, it, vi } from 'vitest'
import { h } from 'vue'
import { follow } from '@/api/client'
import CollectorSheet from './CollectorSheet.vue'
import RetentionSheet from './RetentionSheet.vue'

// service answers like the API: what is put stands there until something else is.
function service(state: Record<string, unknown>, refuse: (body: { address?: string }) => string | undefined = () => undefined) {
  const put: unknown[] = []
  vi.stubGlobal('fetch', async (path: string, { method, body }: { method: string; body?: string }) => {
    const at = path.replace('/api/v1', '')
    if (method === 'PUT') {
      const sent = JSON.parse(body ?? '') as { address?: string }
      put.push(sent)
      const detail = refuse(sent)
      if (detail) return new Response(JSON.stringify({ detail }), { status: 422 })
      state[at] = { ...(state[at] as object), ...sent }
    }
    return new Response(JSON.stringify(state[at]), { status: 200 })
  })
  return put
}

const shown = async (sheet: typeof CollectorSheet | typeof RetentionSheet) => {
  const page = mount({ render: () => h(NMessageProvider, () => h(sheet, { mayChange: true })) })
  await flushPromises()
  return page
}
const press = async (page: Awaited<ReturnType<typeof shown>>, text: string) => {
  await page.findAll('button').find((b) => b.text() === text)!.trigger('click')
  await flushPromises()
}

describe('settings of the trail', () => {
  afterEach(() => vi.unstubAllGlobals())

  it('say how the collector does, and keep the form open when it is refused', async () => {
    const put = service(
      { '/collector': { address: 'tcp://192.0.2.9:514', trust: '', connected: false, sent: 40, waiting: 3, trouble: 'connection refused', since: '2026-03-01T00:00:00Z' } },
      (body) => (body.address === 'nowhere' ? 'address: that is no collector' : undefined),
    )
    const page = await shown(CollectorSheet)
    expect(page.text()).toContain('waiting: connection refused')
    expect(page.text()).toContain('up to record 40; 3 behind it')
    await press(page, 'Change')
    await page.get('input[name=collector]').setValue('nowhere')
    await page.get('form').trigger('submit')
    await flushPromises()
    expect(page.get('[role=alert]').text()).toContain('that is no collector')
    await page.get('input[name=collector]').setValue('udp://192.0.2.9:514')
    await page.get('form').trigger('submit')
    await flushPromises()
    expect(put.at(-1)).toEqual({ address: 'udp://192.0.2.9:514', trust: '' })
    expect(page.find('form').exists()).toBe(false)
    page.unmount()
  })

  it('read how long records stay, and refuse what is no number', async () => {
    const put = service({ '/audit/retention': { days: 400, kinds: [{ actions: ['list', 'sign-out'], days: 30 }, { actions: ['account-set'], days: 0 }] }, '/audit/archives': { items: [] } })
    const page = await shown(RetentionSheet)
    expect(page.text()).toContain('list, sign-out: 30 days; account-set: for ever; everything else stays 400 days')
    await press(page, 'Change')
    expect(page.get('textarea').element.value).toBe('list,sign-out=30\naccount-set=ever')
    await page.get('textarea').setValue('list=soon')
    await page.get('form').trigger('submit')
    expect(page.get('[role=alert]').text()).toContain('Days are whole numbers')
    await page.get('textarea').setValue('list=7\n')
    await page.get('input[name=days]').setValue('')
    await page.get('form').trigger('submit')
    await flushPromises()
    expect(put).toEqual([{ days: 0, kinds: [{ actions: ['list'], days: 7 }] }])
    page.unmount()
  })
})

describe('an answer in lines', () => {
  afterEach(() => vi.unstubAllGlobals())

  it('is read however it is cut', async () => {
    const parts = ['{"checked":1', ',"total":9}\n{"chec', 'ked":9}\n']
    vi.stubGlobal('fetch', async () => new Response(new ReadableStream({ start: (to) => (parts.forEach((p) => to.enqueue(new TextEncoder().encode(p))), to.close()) })))
    const lines: unknown[] = []
    await follow('/audit/verify?follow=1', (line) => lines.push(line))
    expect(lines).toEqual([{ checked: 1, total: 9 }, { checked: 9 }])
  })
})
