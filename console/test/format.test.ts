import { describe, expect, it } from 'vitest'
import { ago, bytes, life, middle, place, pretty, span, took } from '../src/use/format'

describe('text for numbers', () => {
  it.each([
    [0, '0 µs'],
    [999, '999 µs'],
    [1000, '1.0 ms'],
    [9_999_999, '10000.0 ms'],
    [10_000_000, '10.0 s'],
  ])('%i microseconds are %s', (us, text) => expect(took(us)).toBe(text))

  it.each([
    [1023, '1023 B'],
    [1024, '1.0 KiB'],
    [10_239, '10.0 KiB'],
    [10_240, '10 KiB'],
    [10_485_760, '10 MiB'],
  ])('%i bytes are %s', (n, text) => expect(bytes(n)).toBe(text))

  it('says how long ago, and never a negative time', () => {
    const before = (seconds: number) => new Date(Date.now() - seconds * 1000).toISOString()
    expect(ago(undefined)).toBe('never')
    expect(ago(before(-60))).toBe('just now')
    expect(ago(before(61))).toBe('1 min ago')
    expect(ago(before(3 * 3600 + 5))).toBe('3 h ago')
    expect(ago(before(2 * 86400 + 5))).toBe('2 d ago')
  })
})

describe('text of servers and answers', () => {
  it('names the command where there is one, else the address', () => {
    expect(place({ url: '', command: '/opt/skerrow/berths', args: ['--verbose'] })).toBe('/opt/skerrow/berths --verbose')
    expect(place({ url: 'http://127.0.0.1:4701/mcp' })).toBe('http://127.0.0.1:4701/mcp')
  })

  it('indents JSON and leaves anything else alone', () => {
    expect(pretty('{"a":1}')).toBe('{\n  "a": 1\n}')
    expect(pretty('fog at Holm Voe')).toBe('fog at Holm Voe')
  })
})

describe('lengths of time', () => {
  it.each([
    ['12h', { days: 0, hours: 12 }],
    [' 90d ', { days: 90, hours: 0 }],
    ['2w', { days: 14, hours: 0 }],
    ['36h', { days: 1, hours: 12 }],
    ['0d', undefined],
    ['90', undefined],
    ['1.5d', undefined],
  ])('%s is read', (text, want) => expect(life(text)).toEqual(want))

  it.each([
    [7, '7s'],
    [60, '1m'],
    [95, '1m35s'],
  ])('%i seconds are %s', (s, text) => expect(span(s)).toBe(text))
})

describe('a long command', () => {
  it('keeps its beginning and its end', () => {
    expect(middle('/opt/skerrow/berths --verbose', 40)).toBe('/opt/skerrow/berths --verbose')
    const short = middle('/opt/skerrow/bin/berths --config /etc/skerrow/berths/production.json', 31)
    expect(short).toHaveLength(31)
    expect(short).toBe('/opt/skerrow/bi…production.json')
  })
})
