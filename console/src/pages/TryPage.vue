<script setup lang="ts">
import { ElButton, ElOption, ElSelect } from 'element-plus'
import { computed, onMounted, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import * as api from '../api'
import ErrorNote from '../parts/ErrorNote.vue'
import SchemaField from '../parts/SchemaField.vue'
import TriedResult from '../parts/TriedResult.vue'
import { useAction, useResource } from '../use/resource'
import { initial, pruned, type Schema } from '../use/schemaform'

/** Trying a tool as an agent, without a model. */
const route = useRoute()
const agents = useResource(() => api.agents())
const servers = useResource(() => api.servers())
onMounted(() => {
  void agents.load()
  void servers.load()
})
const agent = ref(String(route.query.agent ?? ''))
const server = ref(String(route.query.server ?? ''))
const tool = ref(String(route.query.tool ?? ''))
const tools = useResource(() => api.tools(server.value))
watch(
  server,
  (name) => {
    if (name) void tools.load()
  },
  { immediate: true },
)
const one = computed(() => tools.data.value?.find((t) => t.name === tool.value))
const schema = computed(() => (one.value?.schema.inputSchema ?? { type: 'object', properties: {} }) as Schema)
const value = ref<unknown>({})
watch([one], () => (value.value = initial(schema.value, schema.value) ?? {}), { immediate: true })

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
const go = () => run({ agent: agent.value, server: server.value, name: tool.value, arguments: pruned(value.value) })
function edit(p: Past) {
  agent.value = p.ask.agent
  server.value = p.ask.server ?? ''
  tool.value = p.ask.name
  value.value = JSON.parse(JSON.stringify(p.ask.arguments ?? {}))
  shown.value = p
}
function pickServer(name: string) {
  server.value = name
  tool.value = ''
}
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
        <ElSelect v-model="tool" filterable placeholder="Tool" aria-label="Tool" :disabled="!server">
          <ElOption v-for="t in tools.data.value ?? []" :key="t.name" :value="t.name" :label="t.name" />
        </ElSelect>
      </div>
      <ErrorNote v-if="tools.error.value" :error="tools.error.value" :retry="tools.load" />
      <p v-if="one" class="soft">{{ one.description }}</p>
      <form v-if="one" @submit.prevent="go">
        <SchemaField :key="server + tool" v-model="value" :schema="schema" :root="schema" name="" />
        <div class="row">
          <ElButton type="primary" native-type="submit" :loading="trying.busy.value" :disabled="!ready">Try it</ElButton>
          <span v-if="one.destructive" class="warn">Its server says that it is destructive: it is carried out.</span>
        </div>
      </form>
      <p v-else class="soft">Choose an agent, a server and a tool.</p>
      <ErrorNote v-if="trying.failure.value" :error="trying.failure.value" />
    </section>
    <section class="sheet pad" aria-label="What came of it">
      <TriedResult v-if="shown" :tried="shown.tried" @answer="run({ ...shown.ask, answers: $event, state: shown.tried.state })" />
      <p v-else class="soft">What is sent and what comes back is shown here.</p>
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
.past {
  margin: 0;
  padding: 0;
  list-style: none;
}
.past li {
  padding: 3px 0;
}
</style>
