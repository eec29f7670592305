// An agent on the npm SDK: it connects, lists the tools, makes the calls that it
// is given on standard input, and prints what came of them as JSON.
import { Client } from '@modelcontextprotocol/sdk/client/index.js'
import { StreamableHTTPClientTransport } from '@modelcontextprotocol/sdk/client/streamableHttp.js'

const [url, pass] = process.argv.slice(2)
let input = ''
for await (const chunk of process.stdin) input += chunk
const transport = new StreamableHTTPClientTransport(new URL(url), { requestInit: { headers: { Authorization: `Bearer ${pass}` } } })
const client = new Client({ name: 'npm-agent', version: '1.0.0' })
await client.connect(transport)
const out = { server: client.getServerVersion(), tools: [], results: [] }
out.tools = (await client.listTools()).tools.map((t) => t.name)
for (const call of JSON.parse(input)) {
  const progress = []
  try {
    const result = await client.callTool({ name: call.name, arguments: call.arguments }, undefined, call.progress ? { onprogress: (p) => progress.push(p.progress) } : {})
    out.results.push({ result, progress })
  } catch (err) {
    out.results.push({ error: err.message, code: err.code, progress })
  }
}
await transport.terminateSession()
await client.close()
console.log(JSON.stringify(out))
