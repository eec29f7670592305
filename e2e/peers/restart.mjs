// A client on the npm packages, 1.x or 2.x, that makes a call, says so, and makes
// another one when it is told to: whatever happened meanwhile.
// node restart.mjs 1|2 URL PASS TOOL
const [generation, url, pass, tool] = process.argv.slice(2)
const [{ Client }, { StreamableHTTPClientTransport }] = generation === '1'
  ? await Promise.all([import('@modelcontextprotocol/sdk/client/index.js'), import('@modelcontextprotocol/sdk/client/streamableHttp.js')])
  : await import('@modelcontextprotocol/client').then((m) => [m, m])
const client = new Client({ name: `npm-${generation}`, version: '1.0.0' }, generation === '2' ? { versionNegotiation: { mode: 'auto' } } : {})
client.onerror = () => {} // its event stream breaks off, which it mends itself
await client.connect(new StreamableHTTPClientTransport(new URL(url), { requestInit: { headers: { Authorization: `Bearer ${pass}` } } }))
const call = async () => (await client.callTool({ name: tool, arguments: { text: 'here' } })).content[0].text
console.log(await call())
await new Promise((resolve) => process.stdin.once('data', resolve))
console.log(await call().catch((err) => `failed: ${err.message}`))
process.exit(0)
