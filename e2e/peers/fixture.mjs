// A tool server on the npm packages 2.x with what the conformance suite asks
// for. It speaks both eras on one address: sessions, and 2026-07-28.
// node fixture.mjs PORT [sessions|stateless|both]
import { createServer } from 'node:http';
import { randomUUID } from 'node:crypto';
import { Server, createMcpHandler, isLegacyRequest, WebStandardStreamableHTTPServerTransport, inputRequired, MissingRequiredClientCapabilityError, ProtocolError } from '@modelcontextprotocol/server';

const [port, eras = 'both'] = process.argv.slice(2);
const png = 'iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mP8z8DwHwAFBQIAX8jx0gAAAABJRU5ErkJggg==';
const wav = 'UklGRiYAAABXQVZFZm10IBAAAAABAAEAQB8AAAB9AAACABAAZGF0YQIAAAA=';
const any = { type: 'object' };
const text = (t) => ({ content: [{ type: 'text', text: t }] });
const pause = (ms) => new Promise((done) => setTimeout(done, ms));
const accepted = (ctx, key) => {
  const r = ctx.mcpReq.inputResponses?.[key];
  return r?.action === 'accept' ? r.content : undefined;
};
const state = (ctx) => ctx.params.requestState ?? '';
const form = (message, properties) => ({ method: 'elicitation/create', params: { mode: 'form', message, requestedSchema: { type: 'object', properties, required: Object.keys(properties) } } });
const sampling = (question) => ({ method: 'sampling/createMessage', params: { messages: [{ role: 'user', content: { type: 'text', text: question } }], maxTokens: 100 } });
const roots = { method: 'roots/list', params: {} };
const name = { name: { type: 'string' } };
const bad = (what) => new ProtocolError(-32602, what);

const schema202012 = {
  $schema: 'https://json-schema.org/draft/2020-12/schema', type: 'object',
  $defs: { address: { $anchor: 'addressDef', type: 'object', properties: { street: { type: 'string' }, city: { type: 'string' } } } },
  properties: { name: { type: 'string' }, address: { $ref: '#/$defs/address' }, contactMethod: { type: 'string', enum: ['phone', 'email'] }, phone: { type: 'string' }, email: { type: 'string' } },
  allOf: [{ anyOf: [{ required: ['phone'] }, { required: ['email'] }] }],
  if: { properties: { contactMethod: { const: 'phone' } }, required: ['contactMethod'] }, then: { required: ['phone'] }, else: { required: ['email'] },
  additionalProperties: false,
};

const enums = {
  untitledSingle: { type: 'string', enum: ['option1', 'option2', 'option3'] },
  titledSingle: { type: 'string', oneOf: [{ const: 'value1', title: 'First Option' }, { const: 'value2', title: 'Second Option' }] },
  legacyEnum: { type: 'string', enum: ['opt1', 'opt2'], enumNames: ['Option One', 'Option Two'] },
  untitledMulti: { type: 'array', minItems: 1, maxItems: 3, items: { type: 'string', enum: ['option1', 'option2', 'option3'] } },
  titledMulti: { type: 'array', minItems: 1, maxItems: 3, items: { anyOf: [{ const: 'value1', title: 'First Choice' }, { const: 'value2', title: 'Second Choice' }] } },
};
const defaults = {
  name: { type: 'string', default: 'John Doe' }, age: { type: 'integer', default: 30 }, score: { type: 'number', default: 95.5 },
  status: { type: 'string', enum: ['active', 'inactive', 'pending'], default: 'active' }, verified: { type: 'boolean', default: true },
};

const confirm = (state) => inputRequired({ inputRequests: { confirm: form('Please confirm', { ok: { type: 'boolean' } }) }, requestState: state });

const tools = {
  test_simple_text: () => text('This is a simple text response for testing.'),
  test_image_content: () => ({ content: [{ type: 'image', data: png, mimeType: 'image/png' }] }),
  test_audio_content: () => ({ content: [{ type: 'audio', data: wav, mimeType: 'audio/wav' }] }),
  test_embedded_resource: () => ({ content: [{ type: 'resource', resource: { uri: 'test://embedded-resource', mimeType: 'text/plain', text: 'This is an embedded resource' } }] }),
  test_multiple_content_types: () => ({ content: [{ type: 'text', text: 'Multiple content types test:' }, { type: 'image', data: png, mimeType: 'image/png' }, { type: 'resource', resource: { uri: 'test://mixed-content-resource', mimeType: 'application/json', text: '{"test":"data"}' } }] }),
  test_error_handling: () => ({ isError: true, content: [{ type: 'text', text: 'This tool intentionally returns an error for testing' }] }),
  test_tool_with_logging: async (a, ctx) => {
    for (const t of ['started', 'processing data', 'completed']) { await ctx.mcpReq.log('info', `Tool execution ${t}`); await pause(30); }
    return text('Tool with logging executed successfully');
  },
  test_logging_tool: async (a, ctx) => { await ctx.mcpReq.log('info', 'executed'); return text('Log attempted'); },
  test_tool_with_progress: async (a, ctx) => {
    const progressToken = ctx.mcpReq._meta?.progressToken;
    for (const progress of [0, 50, 100]) {
      if (progressToken !== undefined) await ctx.mcpReq.notify({ method: 'notifications/progress', params: { progressToken, progress, total: 100, message: `Completed step ${progress} of 100` } });
      await pause(30);
    }
    return text(String(progressToken));
  },
  test_sampling: async (a, ctx) => {
    const r = await ctx.mcpReq.requestSampling({ messages: [{ role: 'user', content: { type: 'text', text: a.prompt ?? '' } }], maxTokens: 100 });
    return text(`LLM response: ${r.content.text ?? ''}`);
  },
  test_elicitation: async (a, ctx) => text(`User response: ${JSON.stringify(await ctx.mcpReq.elicitInput({ message: a.message ?? '', requestedSchema: { type: 'object', properties: { username: { type: 'string' }, email: { type: 'string' } }, required: ['username', 'email'] } }))}`),
  test_elicitation_sep1034_defaults: async (a, ctx) => text(JSON.stringify(await ctx.mcpReq.elicitInput({ message: 'Test defaults', requestedSchema: { type: 'object', properties: defaults, required: [] } }))),
  test_elicitation_sep1330_enums: async (a, ctx) => text(JSON.stringify(await ctx.mcpReq.elicitInput({ message: 'Test enums', requestedSchema: { type: 'object', properties: enums, required: [] } }))),
  json_schema_2020_12_tool: (a) => text(JSON.stringify(a)),
  test_x_mcp_header: (a) => text(`region=${a.region ?? ''}`),
  test_missing_capability: (a, ctx) => {
    if (caps(ctx).sampling) return text('sampling is declared');
    throw new MissingRequiredClientCapabilityError({ requiredCapabilities: { sampling: {} } });
  },
  test_streaming_elicitation: () => text('stream observed'),
  test_trigger_tool_change: (a, ctx) => { ctx.changed('tools'); return text('tools_list_changed published'); },
  test_trigger_prompt_change: (a, ctx) => { ctx.changed('prompts'); return text('prompts_list_changed published'); },
  test_input_required_result_elicitation: (a, ctx) => {
    const n = accepted(ctx, 'user_name')?.name;
    return n ? text(`Hello, ${n}!`) : inputRequired({ inputRequests: { user_name: form('What is your name?', name) } });
  },
  test_input_required_result_sampling: (a, ctx) => {
    const r = ctx.mcpReq.inputResponses?.capital_question;
    return r ? text(`Sampling response: ${r.content?.text ?? r.content?.[0]?.text}`) : inputRequired({ inputRequests: { capital_question: sampling('What is the capital of France?') } });
  },
  test_input_required_result_list_roots: (a, ctx) => {
    const r = ctx.mcpReq.inputResponses?.client_roots;
    return r ? text(`Client exposed ${r.roots.length} root(s)`) : inputRequired({ inputRequests: { client_roots: roots } });
  },
  test_input_required_result_request_state: (a, ctx) => {
    if (!accepted(ctx, 'confirm')) return confirm('request_state');
    if (state(ctx) !== 'request_state') throw bad('invalid requestState');
    return text('state-ok: requestState received');
  },
  test_input_required_result_tampered_state: (a, ctx) => {
    if (state(ctx) && state(ctx) !== 'tampered_state') throw bad('invalid requestState');
    return accepted(ctx, 'confirm') && state(ctx) ? text('state-ok') : confirm('tampered_state');
  },
  test_input_required_result_multiple_inputs: (a, ctx) => {
    const r = ctx.mcpReq.inputResponses ?? {};
    if (accepted(ctx, 'user_name')?.name && r.greeting && r.client_roots) return text(`${accepted(ctx, 'user_name').name}, ${r.client_roots.roots.length} root(s) visible`);
    return inputRequired({ inputRequests: { user_name: form('What is your name?', name), greeting: sampling('Generate a greeting'), client_roots: roots }, requestState: 'multiple_inputs' });
  },
  test_input_required_result_multi_round: (a, ctx) => {
    const s = state(ctx);
    if (!s) return inputRequired({ inputRequests: { step1: form('Step 1: What is your name?', name) }, requestState: 'round=1' });
    if (s === 'round=1') return inputRequired({ inputRequests: { step2: form('Step 2: What is your favorite color?', { color: { type: 'string' } }) }, requestState: `round=2;name=${accepted(ctx, 'step1')?.name ?? 'unknown'}` });
    return text(`Multi-round complete: ${s.slice(13)} likes ${accepted(ctx, 'step2')?.color ?? 'unknown'}`);
  },
  test_input_required_result_capabilities: (a, ctx) => {
    if (Object.keys(ctx.mcpReq.inputResponses ?? {}).length) return text('Capability-aware input requests fulfilled');
    const asks = {};
    if (caps(ctx).elicitation) asks.user_name = form('What is your name?', name);
    if (caps(ctx).sampling) asks.greeting = sampling('Generate a short greeting');
    if (caps(ctx).roots) asks.client_roots = roots;
    return Object.keys(asks).length ? inputRequired({ inputRequests: asks }) : text('No declared client capability supports an in-band input request');
  },
};
const schemas = { json_schema_2020_12_tool: schema202012, test_x_mcp_header: { type: 'object', properties: { region: { type: 'string', 'x-mcp-header': 'Region' }, level: { type: 'integer' } } } };
const caps = (ctx) => ctx.mcpReq.envelope?.['io.modelcontextprotocol/clientCapabilities'] ?? ctx.mcpReq._meta?.['io.modelcontextprotocol/clientCapabilities'] ?? ctx.server.getClientCapabilities?.() ?? {};

const prompts = {
  test_simple_prompt: { messages: () => [{ type: 'text', text: 'This is a simple prompt for testing.' }] },
  test_prompt_with_arguments: { arguments: ['arg1', 'arg2'], messages: (a) => [{ type: 'text', text: `Prompt with arguments: arg1='${a.arg1}', arg2='${a.arg2}'` }] },
  test_prompt_with_embedded_resource: { arguments: ['resourceUri'], messages: (a) => [{ type: 'resource', resource: { uri: a.resourceUri, mimeType: 'text/plain', text: 'Embedded resource content for testing.' } }, { type: 'text', text: 'Please process the embedded resource above.' }] },
  test_prompt_with_image: { messages: () => [{ type: 'image', data: png, mimeType: 'image/png' }, { type: 'text', text: 'Please analyze the image above.' }] },
  test_input_required_result_prompt: {
    messages: (a, ctx) => {
      const c = accepted(ctx, 'user_context')?.context;
      return c ? [{ type: 'text', text: `Context: ${c}` }] : inputRequired({ inputRequests: { user_context: form('Please provide context for the prompt', { context: { type: 'string' } }) } });
    },
  },
};

const resources = {
  'test://static-text': { mimeType: 'text/plain', text: 'This is the content of the static text resource.' },
  'test://static-binary': { mimeType: 'image/png', blob: png },
  'test://watched-resource': { mimeType: 'text/plain', text: 'Watched resource content' },
};

const extra = { tools: false, prompts: false };

function make(changed) {
  const s = new Server({ name: 'npm-fixture', version: '2.0.0' }, { capabilities: { tools: { listChanged: true }, prompts: { listChanged: true }, resources: { listChanged: true, subscribe: true }, completions: {}, logging: {} } });
  const context = (ctx, request) => Object.assign(Object.create(ctx), { params: { ...request.params, requestState: ctx.mcpReq.requestState?.() ?? request.params.requestState }, server: s, changed: (kind) => { extra[kind] = true; changed(kind, s); } });
  s.setRequestHandler('tools/list', () => ({ tools: [...Object.keys(tools), ...(extra.tools ? ['transient_tool'] : [])].map((n) => ({ name: n, description: `Fixture ${n}`, inputSchema: schemas[n] ?? any })) }));
  s.setRequestHandler('tools/call', (request, ctx) => {
    const tool = tools[request.params.name];
    if (!tool) throw bad(`unknown tool ${request.params.name}`);
    return tool(request.params.arguments ?? {}, context(ctx, request));
  });
  s.setRequestHandler('prompts/list', () => ({ prompts: [...Object.entries(prompts).map(([n, p]) => ({ name: n, description: n, arguments: (p.arguments ?? []).map((a) => ({ name: a, required: true })) })), ...(extra.prompts ? [{ name: 'transient_prompt', description: 'Came later' }] : [])] }));
  s.setRequestHandler('prompts/get', (request, ctx) => {
    const p = prompts[request.params.name];
    if (!p) throw bad(`unknown prompt ${request.params.name}`);
    const m = p.messages(request.params.arguments ?? {}, context(ctx, request));
    return Array.isArray(m) ? { messages: m.map((content) => ({ role: 'user', content })) } : m;
  });
  s.setRequestHandler('resources/list', () => ({ resources: Object.entries(resources).map(([uri, r]) => ({ uri, name: uri.slice(7), mimeType: r.mimeType })) }));
  s.setRequestHandler('resources/templates/list', () => ({ resourceTemplates: [{ uriTemplate: 'test://template/{id}/data', name: 'template', mimeType: 'application/json' }] }));
  s.setRequestHandler('resources/read', (request) => {
    const uri = request.params.uri;
    const id = uri.match(/^test:\/\/template\/([^/]+)\/data$/)?.[1];
    if (id) return { contents: [{ uri, mimeType: 'application/json', text: JSON.stringify({ id, templateTest: true, data: `Data for ID: ${id}` }) }] };
    if (!resources[uri]) throw new ProtocolError(-32602, 'Resource not found', { uri });
    return { contents: [{ uri, ...resources[uri] }] };
  });
  s.setRequestHandler('resources/subscribe', () => ({}));
  s.setRequestHandler('resources/unsubscribe', () => ({}));
  s.setRequestHandler('completion/complete', () => ({ completion: { values: [], total: 0 } }));
  return s;
}

const modern = createMcpHandler(() => make((kind) => (kind === 'tools' ? modern.notify.toolsChanged() : modern.notify.promptsChanged())), { legacy: 'reject' });
const sessions = new Map();
async function legacy(request) {
  const id = request.headers.get('mcp-session-id');
  if (id) return sessions.get(id)?.handleRequest(request) ?? Response.json({ jsonrpc: '2.0', id: null, error: { code: -32001, message: 'Session not found' } }, { status: 404 });
  const transport = new WebStandardStreamableHTTPServerTransport({ sessionIdGenerator: randomUUID, onsessioninitialized: (sid) => { sessions.set(sid, transport); }, onsessionclosed: (sid) => { sessions.delete(sid); } });
  await make((kind, s) => (kind === 'tools' ? s.sendToolListChanged() : s.sendPromptListChanged())).connect(transport);
  return transport.handleRequest(request);
}

createServer(async (req, res) => {
  const chunks = [];
  for await (const c of req) chunks.push(c);
  const host = req.headers.host ?? '';
  if (!/^(127\.0\.0\.1|localhost)(:\d+)?$/.test(host) || (req.headers.origin && !/^https?:\/\/(127\.0\.0\.1|localhost)(:\d+)?$/.test(req.headers.origin))) { res.writeHead(403).end(); return; }
  const gone = new AbortController();
  res.on('close', () => gone.abort());
  const body = chunks.length ? Buffer.concat(chunks) : undefined;
  const ask = () => new Request(`http://${host}${req.url}`, { method: req.method, headers: Object.entries(req.headers).map(([k, v]) => [k, String(v)]), body, signal: gone.signal });
  const old = await isLegacyRequest(ask());
  const answer = old && eras !== 'stateless' ? await legacy(ask()) : await modern.fetch(ask());
  res.writeHead(answer.status, Object.fromEntries(answer.headers));
  res.flushHeaders();
  if (answer.body) for await (const c of answer.body) res.write(c);
  res.end();
}).listen(Number(port), '127.0.0.1');
