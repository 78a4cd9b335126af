import { afterEach, describe, expect, it, vi } from 'vitest'
import { call, Problem, sentence } from './client'

const answer = (status: number, body: unknown) => vi.stubGlobal('fetch', vi.fn(async () => new Response(body === undefined ? null : JSON.stringify(body), { status })))

describe('call', () => {
  afterEach(() => vi.unstubAllGlobals())

  it('gives what the service answers', async () => {
    answer(200, { operator: 'ilse', role: 'owner' })
    expect(await call('GET', '/me')).toEqual({ operator: 'ilse', role: 'owner' })
    expect(fetch).toHaveBeenCalledWith('/api/v1/me', { method: 'GET', headers: {}, body: undefined })
    answer(204, undefined)
    expect(await call('POST', '/sign-out')).toBeUndefined()
  })

  it('sends a body as JSON', async () => {
    answer(201, {})
    await call('POST', '/accounts', { name: 'ann' })
    expect(fetch).toHaveBeenCalledWith('/api/v1/accounts', { method: 'POST', headers: { 'Content-Type': 'application/json' }, body: '{"name":"ann"}' })
  })

  it('throws a problem with its field', async () => {
    answer(422, { type: 'about:blank', title: 'Unprocessable Entity', status: 422, detail: 'the name is taken: choose another', field: 'name' })
    const problem = await call('POST', '/accounts', {}).catch((e: unknown) => e)
    expect(problem).toBeInstanceOf(Problem)
    expect(problem).toMatchObject({ status: 422, field: 'name' })
    expect(sentence(problem)).toBe('The name is taken: choose another')
  })

  it('says that nobody answers', async () => {
    vi.stubGlobal('fetch', vi.fn(async () => Promise.reject(new TypeError('Failed to fetch'))))
    await expect(call('GET', '/me')).rejects.toThrow('The service does not answer. Is it running?')
    vi.stubGlobal('fetch', vi.fn(async () => new Response('<html>', { status: 502, statusText: 'Bad Gateway' })))
    await expect(call('GET', '/me')).rejects.toThrow('Bad Gateway')
  })
})
