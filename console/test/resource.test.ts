import { effectScope } from 'vue'
import { describe, expect, it } from 'vitest'
import { ApiError } from '../src/api/client'
import { onEvent, useAction, useResource } from '../src/use/resource'

describe('useResource', () => {
  it('drops an answer that a newer question overtook', async () => {
    const waiting: ((text: string) => void)[] = []
    const scope = effectScope()
    const r = scope.run(() => useResource(() => new Promise<string>((done) => waiting.push(done))))!
    const first = r.load()
    const second = r.load()
    waiting[1]('new')
    waiting[0]('old')
    await Promise.all([first, second])
    expect(r.data.value).toBe('new')
    expect(r.loading.value).toBe(false)
    scope.stop()
  })

  it('is not broken off by events, and asks once more after as many as came', async () => {
    const waiting: ((text: string) => void)[] = []
    const scope = effectScope()
    const r = scope.run(() => useResource(() => new Promise<string>((done) => waiting.push(done))))!
    const first = r.load()
    for (let i = 0; i < 5; i++) onEvent(() => void r.load())
    expect(waiting).toHaveLength(1)
    waiting[0]('first')
    await first
    expect(r.data.value).toBe('first')
    expect(waiting).toHaveLength(2)
    waiting[1]('second')
    await new Promise((done) => setTimeout(done))
    expect([r.data.value, r.loading.value, waiting.length]).toEqual(['second', false, 2])
    onEvent(() => void r.load())
    expect(waiting, 'when nothing is asked an event asks').toHaveLength(3)
    scope.stop()
  })

  it('keeps what was there when asking again fails', async () => {
    let away = false
    const scope = effectScope()
    const r = scope.run(() =>
      useResource(async () => {
        if (away) throw new ApiError(0, 'away')
        return 'there'
      }),
    )!
    await r.load()
    away = true
    await r.load()
    expect(r.data.value).toBe('there')
    expect(r.error.value?.message).toBe('away')
    scope.stop()
  })
})

describe('useAction', () => {
  it('does one thing at a time', async () => {
    const a = useAction()
    let finish = () => {}
    const first = a.run(() => new Promise<number>((done) => (finish = () => done(1))))
    expect(await a.run(async () => 2)).toBeUndefined()
    finish()
    expect(await first).toBe(1)
    expect(a.busy.value).toBe(false)
  })
})

describe('an error about a field', () => {
  it('does not repeat what the label says', async () => {
    const action = effectScope().run(() => useAction())!
    await action.run(() => Promise.reject(new ApiError(422, 'Places must name a secret each', '', 'places')))
    expect(action.fieldError('places')).toBe('Must name a secret each')
    expect(action.fieldError('url')).toBe('')
    await action.run(() => Promise.reject(new ApiError(409, 'There is a rule of that name', '', 'name')))
    expect(action.fieldError('name')).toBe('There is a rule of that name')
  })
})
