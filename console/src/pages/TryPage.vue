<script setup lang="ts">
import { ElButton, ElInput, ElOption, ElSelect } from 'element-plus'
import { computed, onMounted, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import * as api from '../api'
import ErrorNote from '../parts/ErrorNote.vue'
import ExampleForm from '../parts/ExampleForm.vue'
import ExamplePicker from '../parts/ExamplePicker.vue'
import SchemaField from '../parts/SchemaField.vue'
import TriedResult from '../parts/TriedResult.vue'
import { useAction, useResource } from '../use/resource'
import { initial, pruned } from '../use/schemaform'
import { useSession } from '../use/session'
import { expanded, kindNames, schemaOf, variablesOf, type TryKind } from '../use/tryform'

/** Trying a tool, a prompt, a resource or a completion as an agent, without a model. */
const route = useRoute()
const { may } = useSession()
const examples = ref<InstanceType<typeof ExamplePicker>>()
const agents = useResource(() => api.agents())
const servers = useResource(() => api.servers())
onMounted(() => {
  void agents.load()
  void servers.load()
})
const agent = ref(String(route.query.agent ?? ''))
const server = ref(String(route.query.server ?? ''))
const tool = ref(String(route.query.tool ?? ''))
const kind = ref<TryKind>('tool')
const argument = ref('')
async function listed(): Promise<api.Tool[]> {
  const of = (what: 'tools' | 'prompts' | 'resources' | 'resourceTemplates') => api.offered(server.value, what)
  switch (kind.value) {
    case 'prompt':
      return of('prompts')
    case 'resource':
      return (await Promise.all([of('resources'), of('resourceTemplates')])).flat()
    case 'completion':
      return (await Promise.all([of('prompts'), of('resourceTemplates')])).flat()
    default:
      return of('tools')
  }
}
const tools = useResource(listed)
watch(
  [server, kind],
  () => {
    if (server.value) void tools.load()
  },
  { immediate: true },
)
const one = computed(() => tools.data.value?.find((t) => t.name === tool.value))
const schema = computed(() => schemaOf(kind.value, one.value))
const names = computed(() => Object.keys(schema.value.properties ?? {}))
const value = ref<unknown>({})
/** What the form begins with as soon as it is there. */
const filling = ref<unknown>()
watch(
  [one],
  () => {
    value.value = filling.value ?? initial(schema.value, schema.value) ?? {}
    filling.value = undefined
    argument.value = names.value[0] ?? ''
  },
  { immediate: true },
)

interface Past {
  at: Date
  ask: api.Try
  tried: api.Tried
}
const history = ref<Past[]>([])
const shown = ref<Past>()
const trying = useAction()
async function run(ask: api.Try) {
  const tried = await trying.run(() => api.tryTool(ask))
  if (!tried) return
  shown.value = { at: new Date(), ask, tried }
  history.value = [shown.value, ...history.value].slice(0, 20)
}
function go() {
  const ask: api.Try = { agent: agent.value, server: server.value, name: tool.value, kind: kind.value, arguments: pruned(value.value) }
  if (kind.value === 'completion') ask.argument = argument.value
  if (kind.value === 'resource') {
    ask.name = variablesOf(tool.value).length ? expanded(tool.value, value.value as Record<string, unknown>) : tool.value
    delete ask.arguments
  }
  return run(ask)
}
function edit(p: Past) {
  agent.value = p.ask.agent
  server.value = p.ask.server ?? ''
  kind.value = p.ask.kind ?? 'tool'
  const again: unknown = JSON.parse(JSON.stringify(p.ask.arguments ?? {}))
  if (one.value?.name === p.ask.name) value.value = again
  else filling.value = again
  tool.value = p.ask.name
  shown.value = p
}
function pickServer(name: string) {
  server.value = name
  tool.value = ''
}
function pickKind(what: TryKind) {
  kind.value = what
  tool.value = ''
}
function fill(e: api.Example) {
  if (one.value?.name === e.tool) {
    value.value = e.arguments
    return
  }
  filling.value = e.arguments
  tool.value = e.tool
}
const kept = computed(() => {
  const p = shown.value
  return p?.tried.ok && (p.ask.kind ?? 'tool') === 'tool'
    ? { server: p.tried.server, tool: p.tried.name, arguments: p.ask.arguments }
    : undefined
})
const ready = computed(() => agent.value && server.value && tool.value)
const missing = computed(() => agents.data.value?.length === 0 || servers.data.value?.length === 0)
</script>

<template>
  <div class="pagehead">
    <h1>Try</h1>
    <span class="soft">A call as an agent would make it: its rules, budgets and holds are in force, and it stands in the journal.</span>
  </div>
  <ErrorNote v-if="agents.error.value" :error="agents.error.value" :retry="agents.load" />
  <ErrorNote v-if="servers.error.value" :error="servers.error.value" :retry="servers.load" />
  <p v-if="missing" class="soft">
    There is nothing to try yet: <RouterLink to="/agents">add an agent</RouterLink>, and
    <RouterLink to="/servers">register a server</RouterLink>.
  </p>
  <div v-else class="two">
    <section class="sheet pad" aria-label="What is tried">
      <div class="row">
        <ElSelect v-model="agent" filterable placeholder="Agent" aria-label="Agent">
          <ElOption v-for="a in agents.data.value ?? []" :key="a.name" :value="a.name" :label="a.name" />
        </ElSelect>
        <ElSelect :model-value="server" filterable placeholder="Server" aria-label="Server" @update:model-value="pickServer">
          <ElOption v-for="s in servers.data.value ?? []" :key="s.name" :value="s.name" :label="s.name" />
        </ElSelect>
      </div>
      <div class="row">
        <ElSelect :model-value="kind" aria-label="What it is" class="what" @update:model-value="pickKind">
          <ElOption v-for="(label, k) in kindNames" :key="k" :value="k" :label="label" />
        </ElSelect>
        <ElSelect v-model="tool" filterable :placeholder="kindNames[kind]" :aria-label="kindNames[kind]" :disabled="!server">
          <ElOption v-for="t in tools.data.value ?? []" :key="t.name" :value="t.name" :label="t.name" />
        </ElSelect>
      </div>
      <ExamplePicker v-if="server && kind === 'tool'" ref="examples" :server="server" @chosen="fill" />
      <ErrorNote v-if="tools.error.value" :error="tools.error.value" :retry="tools.load" />
      <p v-if="one" class="soft">{{ one.description }}</p>
      <form v-if="one" @submit.prevent="go">
        <p v-if="kind === 'completion' && names.length" class="row">
          <label
            >completed is
            <ElSelect v-model="argument" aria-label="Argument that is completed">
              <ElOption v-for="n in names" :key="n" :value="n" :label="n" /> </ElSelect
          ></label>
        </p>
        <SchemaField :key="server + kind + tool" v-model="value" :schema="schema" :root="schema" name="" />
        <div class="row">
          <ElButton type="primary" native-type="submit" :loading="trying.busy.value" :disabled="!ready">Try it</ElButton>
          <span v-if="one.destructive" class="warn">Its server says that it is destructive: it is carried out.</span>
        </div>
      </form>
      <p v-else-if="server && tools.data.value?.length === 0" class="soft">
        Server {{ server }} offers nothing of this kind.
        <template v-if="kind === 'resource'"
          >A resource that is not listed can be read by its URI:
          <ElInput v-model="tool" placeholder="URI" aria-label="URI of the resource" />
          <ElButton v-if="ready" type="primary" @click="go">Read it</ElButton>
        </template>
      </p>
      <p v-else class="soft">Choose an agent, a server and what is tried.</p>
      <ErrorNote v-if="trying.failure.value" :error="trying.failure.value" />
    </section>
    <section class="sheet pad" aria-label="What came of it">
      <TriedResult v-if="shown" :tried="shown.tried" @answer="run({ ...shown.ask, answers: $event, state: shown.tried.state })" />
      <p v-else class="soft">What is sent and what comes back is shown here.</p>
      <ExampleForm v-if="kept && may('servers.keep')" v-bind="kept" @kept="examples?.load()" />
      <template v-if="history.length > 1">
        <h2>Before</h2>
        <ul class="past">
          <li v-for="p in history" :key="p.at.getTime()">
            <button class="plain" type="button" @click="edit(p)">{{ p.ask.server }}/{{ p.ask.name }}</button>
            <span :class="p.tried.ok ? 'good' : 'bad'"> {{ p.tried.ok ? 'ok' : 'not ok' }}</span>
            <span class="soft"> as {{ p.ask.agent }}, {{ p.tried.ms.toFixed(0) }} ms, {{ p.at.toLocaleTimeString() }}</span>
            <ElButton size="small" @click="run(p.ask)">Again</ElButton>
          </li>
        </ul>
      </template>
    </section>
  </div>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1.1fr);
  gap: 14px;
  align-items: start;
}
.row {
  display: flex;
  gap: 8px;
  align-items: center;
  margin-bottom: 10px;
}
.what {
  flex: 0 0 120px;
}
.past {
  margin: 0;
  padding: 0;
  list-style: none;
}
.past li {
  padding: 3px 0;
}
</style>
