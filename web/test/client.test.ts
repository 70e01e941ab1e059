import { afterEach, describe, expect, it, vi } from 'vitest'

import { api, ApiProblem } from '../src/api/client'

/** Answers requests in turn, and keeps them. */
function answering(...responses: Response[]) {
  const asked: [string, RequestInit][] = []
  vi.stubGlobal('fetch', (url: string, init: RequestInit) => {
    asked.push([url, init])
    const next = responses.shift()
    return next ? Promise.resolve(next) : Promise.reject(new TypeError('refused'))
  })
  return asked
}
afterEach(() => vi.unstubAllGlobals())

describe('the client', () => {
  it('changes an entity over the version that was looked at', async () => {
    const asked = answering(
      new Response('{"tag":"a/b","unit":"A"}', { headers: { ETag: '"3"' } }),
      new Response('{"tag":"a/b","unit":"V"}', { headers: { ETag: '"4"' } }),
    )
    const now = await api.get<{ unit: string }>('point', 'a/b')
    expect(now).toEqual({ answer: { tag: 'a/b', unit: 'A' }, version: '"3"' })
    await api.set('point', 'a/b', { unit: 'V' }, now.version)
    expect(asked[1]?.[0]).toBe('/api/v1/points/a/b')
    expect(asked[1]?.[1].headers).toMatchObject({ 'If-Match': '"3"' })
    expect(asked[1]?.[1].body).toBe('{"unit":"V"}')
  })

  it('escapes each part of a tag', async () => {
    const asked = answering(new Response('{}'))
    await api.get('point', 'a b/c%d')
    expect(asked[0]?.[0]).toBe('/api/v1/points/a%20b/c%25d')
  })

  it('gives problems field by field, and says which are of another version', async () => {
    answering(new Response(JSON.stringify({ status: 412, detail: 'changed', title: '' }), { status: 412 }))
    const stale = await api.set('link', 'x', {}).catch((e: unknown) => e)
    expect(stale).toBeInstanceOf(ApiProblem)
    expect((stale as ApiProblem).stale).toBe(true)
    answering(new Response(JSON.stringify({ status: 422, detail: '', title: '', errors: [{ field: 'scaling.raw', message: 'two numbers' }, { field: 'tag', message: 'is taken' }] }), { status: 422 }))
    const wrong = (await api.add('point', {}).catch((e: unknown) => e)) as ApiProblem
    expect(wrong.stale).toBe(false)
    expect(wrong.fields).toEqual({ scaling: 'scaling.raw: two numbers', tag: 'is taken' })
  })

  it('says that the service does not answer, or answers something else', async () => {
    answering()
    await expect(api.links()).rejects.toThrow('The service does not answer')
    answering(new Response('<html>', { status: 502, statusText: 'Bad Gateway' }))
    await expect(api.links()).rejects.toThrow('The service answers 502 Bad Gateway')
  })

  it('collects all pages of a list', async () => {
    const asked = answering(new Response('{"items":[{"name":"a"}],"next":"a"}'), new Response('{"items":[{"name":"b"}]}'))
    expect((await api.links()).map((l) => l.name)).toEqual(['a', 'b'])
    expect(asked[1]?.[0]).toContain('cursor=a')
  })
})
