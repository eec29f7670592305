import { describe, expect, it } from 'vitest'
import type { Server } from '../src/api'
import { altered, described, dropped, formOf } from '../src/use/serverform'

const berths = {
  id: '1',
  name: 'berths',
  url: '',
  transport: 'stdio',
  command: '/opt/skerrow/berths',
  args: ['--verbose'],
  env: ['LOG=info'],
  secretEnv: 'BERTHS_KEY',
  secret: 'berths-variable',
  sharing: 'auto',
  callSeconds: 90,
  toolLimits: [{ tool: 'list_*', resultKiB: 64 }],
  places: [{ how: 'variable', name: 'TEAM', secret: 'team-key' }],
  version: 4,
  health: {},
} as unknown as Server
const crew = {
  id: '2',
  name: 'crew',
  url: 'https://crew.example/mcp',
  transport: 'streamable-http',
  per: 'person',
  signIn: { grant: 'code', scope: 'crew:read' },
  privateRanges: ['10.0.0.0/8'],
  version: 1,
  health: {},
} as unknown as Server

describe('the form of a server', () => {
  it('alters nothing when nothing was typed', () => {
    expect(altered(formOf(berths), berths)).toEqual({ version: 4 })
    expect(altered(formOf(crew), crew)).toEqual({ version: 1 })
  })

  it('sends what differs, and what was taken away as empty', () => {
    const form = formOf(berths)
    form.env = 'LOG=debug\n\nTRACE=1'
    form.callSeconds = undefined
    form.toolLimits = []
    form.places[0].secret = 'other-key'
    expect(altered(form, berths)).toEqual({
      version: 4,
      env: ['LOG=debug', 'TRACE=1'],
      callSeconds: 0,
      toolLimits: [],
      places: [{ how: 'variable', name: 'TEAM', secret: 'other-key' }],
    })
    expect(berths.places?.[0].secret).toBe('team-key')
  })

  it('says what is taken away', () => {
    const form = formOf(berths)
    expect(dropped(form, berths)).toEqual([])
    form.env = 'TRACE=1'
    form.places = []
    expect(dropped(form, berths)).toEqual(['variable LOG', 'secret team-key'])
    const elsewhere = formOf(crew)
    elsewhere.url = 'https://other.example/mcp'
    expect(dropped(elsewhere, crew)[0]).toContain('what people and agents gave')
  })

  it('ends a sign-in with an empty one', () => {
    const form = formOf(crew)
    form.grant = ''
    form.secret = 'crew-token'
    expect(altered(form, crew)).toEqual({ version: 1, signIn: {}, secret: 'crew-token' })
    form.grant = 'client'
    form.clientId = ' bouncer '
    form.secret = ''
    expect(altered(form, crew).signIn).toEqual({ grant: 'client', scope: 'crew:read', clientId: 'bouncer' })
  })

  it('describes a registration without what is empty', () => {
    const form = formOf()
    Object.assign(form, {
      name: 'sailings',
      url: 'https://sailings.example/mcp',
      headers: 'X-Team: harbour',
      grant: 'code',
      command: 'left over',
    })
    expect(described(form)).toEqual({
      name: 'sailings',
      url: 'https://sailings.example/mcp',
      headers: ['X-Team: harbour'],
      sharing: 'auto',
      signIn: { grant: 'code' },
    })
    const api = formOf()
    Object.assign(api, { kind: 'rest', name: 'lost', url: 'https://lost.example', document: { documentURL: 'https://lost.example/doc' } })
    expect(described(api)).toEqual({ name: 'lost', url: 'https://lost.example', documentURL: 'https://lost.example/doc' })
  })
})
