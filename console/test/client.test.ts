import { afterEach, describe, expect, it, vi } from 'vitest'
import { ApiError, request, whenSignedOut } from '../src/api/client'

function answers(status: number, body: string) {
  const fetched = vi.fn(async () => new Response(status === 204 ? null : body, { status }))
  vi.stubGlobal('fetch', fetched)
  return fetched
}

const failed = (promise: Promise<unknown>) =>
  promise.then(
    () => expect.unreachable(),
    (err) => err as ApiError,
  )

afterEach(() => {
  vi.unstubAllGlobals()
  whenSignedOut(() => {})
})

describe('request', () => {
  it('sends JSON and returns JSON', async () => {
    const fetched = answers(200, '[{"name":"sailings"}]')
    expect(await request('POST', '/api/servers', { name: 'sailings' })).toEqual([{ name: 'sailings' }])
    expect(fetched).toHaveBeenCalledWith('/api/servers', expect.objectContaining({ method: 'POST', body: '{"name":"sailings"}' }))
  })

  it('tells what the service said when it refused', async () => {
    answers(422, '{"title":"name is taken","hint":"choose another","field":"name","status":422}')
    const err = await failed(request('POST', '/api/servers', {}))
    expect(err).toMatchObject({ status: 422, message: 'Name is taken', hint: 'Choose another', field: 'name' })
  })

  it('does not take a page of something else for an answer', async () => {
    answers(200, '<html>')
    expect((await failed(request('GET', '/api/servers'))).message).toContain('status 200')
  })

  it('says that the service is away', async () => {
    vi.stubGlobal('fetch', () => Promise.reject(new TypeError('failed to fetch')))
    expect(await failed(request('GET', '/api/servers'))).toMatchObject({ status: 0, message: 'Bouncer cannot be reached' })
  })

  it('tells the page that the session ended, but not while asking who is signed in', async () => {
    const ended = vi.fn()
    whenSignedOut(ended)
    answers(401, '{"title":"sign in first"}')
    await failed(request('GET', '/api/session'))
    expect(ended).not.toHaveBeenCalled()
    await failed(request('GET', '/api/servers'))
    expect(ended).toHaveBeenCalledOnce()
  })
})
