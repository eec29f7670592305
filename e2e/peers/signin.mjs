// An agent on the npm packages, 1.x or 2.x, that knows OAuth: it prints the
// address that a person has to open, reads the answer's address from standard
// input, and goes on. node signin.mjs 1|2 URL
import { createInterface } from 'node:readline/promises'

const [generation, url] = process.argv.slice(2)
const [{ Client }, { StreamableHTTPClientTransport }] = generation === '1'
  ? await Promise.all([import('@modelcontextprotocol/sdk/client/index.js'), import('@modelcontextprotocol/sdk/client/streamableHttp.js')])
  : await import('@modelcontextprotocol/client').then((m) => [m, m])
const kept = {}
const redirectUrl = 'http://127.0.0.1:1/back'
const provider = {
  redirectUrl,
  clientMetadata: { client_name: `Parlour ${generation}`, redirect_uris: [redirectUrl], grant_types: ['authorization_code', 'refresh_token'], response_types: ['code'], token_endpoint_auth_method: 'none' },
  state: () => 'the-state',
  clientInformation: () => kept.client,
  saveClientInformation: (c) => { kept.client = c },
  tokens: () => kept.tokens,
  saveTokens: (t) => { kept.tokens = t },
  redirectToAuthorization: (to) => console.log(`open ${to}`),
  saveCodeVerifier: (v) => { kept.verifier = v },
  codeVerifier: () => kept.verifier,
  saveDiscoveryState: (d) => { kept.discovery = d },
  discoveryState: () => kept.discovery,
}
const make = () => [new Client({ name: 'parlour', version: '1.0.0' }), new StreamableHTTPClientTransport(new URL(url), { authProvider: provider })]
let [client, transport] = make()
try {
  await client.connect(transport)
  throw new Error('it was let in without a sign-in')
} catch (err) {
  if (!/unauthorized/i.test(`${err.name} ${err.constructor.name} ${err.message}`)) throw err
}
const lines = createInterface({ input: process.stdin })
const answer = new URL((await lines[Symbol.asyncIterator]().next()).value)
if (answer.searchParams.get('state') !== 'the-state') throw new Error('the state is another one')
if (generation === '1') await transport.finishAuth(answer.searchParams.get('code'))
else await transport.finishAuth(answer.searchParams)
;[client, transport] = make()
await client.connect(transport)
const result = await client.callTool({ name: 'echo', arguments: { text: `from ${generation}` } })
kept.tokens = { ...kept.tokens, access_token: 'bna_no-longer-good' } // as after an hour
;[client, transport] = make()
await client.connect(transport)
const again = await client.callTool({ name: 'echo', arguments: { text: 'after the renewal' } })
console.log(JSON.stringify({ first: result.content[0].text, again: again.content[0].text }))
process.exit(0)
