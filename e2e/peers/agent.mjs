// An agent on the npm packages, 1.x or 2.x: it does what it is told on standard
// input, in order, and prints what came of it as JSON.
// node agent.mjs 1|2 URL PASS
const [generation, url, pass] = process.argv.slice(2)
const [{ Client }, { StreamableHTTPClientTransport }, types] = generation === '1'
  ? await Promise.all([import('@modelcontextprotocol/sdk/client/index.js'), import('@modelcontextprotocol/sdk/client/streamableHttp.js'), import('@modelcontextprotocol/sdk/types.js')])
  : await import('@modelcontextprotocol/client').then((m) => [m, m, m])
let input = ''
for await (const chunk of process.stdin) input += chunk
const options = { capabilities: { elicitation: { form: {} } } }
if (generation === '2') options.versionNegotiation = { mode: 'auto' }
const client = new Client({ name: `npm-${generation}`, version: '1.0.0' }, options)
const answer = async () => ({ action: 'accept', content: { username: 'Teo', email: 'teo@skerrow.example', name: 'Teo' } })
client.setRequestHandler(generation === '1' ? types.ElicitRequestSchema : 'elicitation/create', answer)
await client.connect(new StreamableHTTPClientTransport(new URL(url), { requestInit: { headers: { Authorization: `Bearer ${pass}` } } }))
const out = []
for (const c of JSON.parse(input)) {
  try {
    let progress = 0
    const o = { onprogress: () => { progress++ }, timeout: 15000 }
    let r
    switch (c.do) {
      case 'tools': r = (await client.listTools()).tools.map((t) => t.name); break
      case 'call': r = generation === '1' ? await client.callTool({ name: c.name, arguments: c.args }, undefined, c.progress ? o : {}) : await client.callTool({ name: c.name, arguments: c.args }, c.progress ? o : {}); break
      case 'read': r = await client.readResource({ uri: c.name }); break
      case 'prompt': r = await client.getPrompt({ name: c.name, arguments: c.args ?? {} }); break
    }
    out.push({ text: JSON.stringify(r), progress })
  } catch (err) {
    out.push({ error: String(err.message ?? err) })
  }
}
console.log(JSON.stringify({ revision: client.getNegotiatedProtocolVersion?.() ?? client.transport?.protocolVersion, out }))
await client.close()
process.exit(0)
