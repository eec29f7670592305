<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'
import * as api from '../api'
import CallChart from '../parts/CallChart.vue'
import ErrorNote from '../parts/ErrorNote.vue'
import { ago, took } from '../use/format'
import { useLive } from '../use/live'
import { useResource } from '../use/resource'
import { useSession } from '../use/session'

const { may } = useSession()
const step = 1800
const slots = 48
const since = ref(0)
const servers = useResource(() => api.servers())
const agents = useResource(() => api.agents())
const rules = useResource(() => api.rules())
const secrets = useResource(() => api.secrets())
const signIns = useResource(() => api.signIns())
const calls = useResource((signal) => api.calls({ limit: 500, since: new Date(Date.now() - slots * step * 1000).toISOString() }, signal))
const changes = useResource(() => (may('changes.see') ? api.changes(8) : Promise.resolve([])))
const counts = useResource((signal) => {
  since.value = Math.floor(Date.now() / (step * 1000)) * step * 1000 - (slots - 1) * step * 1000
  return api.callCounts({ since: new Date(since.value).toISOString() }, step, signal)
})
function loadAll() {
  for (const r of [servers, agents, rules, secrets, signIns, calls, changes, counts]) void r.load()
}
onMounted(loadAll)
let late = 0
useLive({
  topics: loadAll,
  back: loadAll,
  // Calls come many a second; the figures follow at their own pace.
  calls: () => {
    window.clearTimeout(late)
    late = window.setTimeout(() => {
      void calls.load()
      void counts.load()
    }, 1000)
  },
})

interface Task {
  what: string
  why: string
  to: string
  tone: 'bad' | 'warn'
}
const days = (iso?: string) => (iso ? (new Date(iso).getTime() - Date.now()) / 86_400_000 : Infinity)
// What needs somebody, the worst first.
const tasks = computed<Task[]>(() => {
  const out: Task[] = []
  for (const s of servers.data.value ?? []) {
    if (s.health.finding) out.push({ what: `${s.name} is failing`, why: s.health.finding.message, to: `/servers/${s.name}`, tone: 'bad' })
    else if (s.health.altered)
      out.push({
        what: `${s.name} runs old code`,
        why: `${s.health.altered} changed on disk; restart it`,
        to: `/servers/${s.name}`,
        tone: 'warn',
      })
  }
  for (const s of signIns.data.value ?? [])
    if (s.mine && s.state !== 'valid')
      out.push({ what: `Sign in at ${s.server}`, why: s.note || 'calls are refused until then', to: '/sign-ins', tone: 'warn' })
  for (const s of secrets.data.value ?? [])
    if (s.warning) out.push({ what: `Rotate ${s.name}`, why: s.warning, to: '/secrets', tone: 'warn' })
  for (const r of rules.data.value ?? [])
    if (r.matches.nothing) out.push({ what: `Rule ${r.name}`, why: `matches ${r.matches.text}`, to: `/rules?rule=${r.name}`, tone: 'warn' })
  for (const a of agents.data.value ?? []) {
    if (!a.confirmed && may('agents.confirm'))
      out.push({
        what: `Confirm ${a.name}`,
        why: 'rules for a pattern of names admit nothing for it until then',
        to: `/agents/${a.name}`,
        tone: 'warn',
      })
    if (a.expires && days(a.expires) < 14)
      out.push({
        what: `The last pass of ${a.name}`,
        why: `ends ${days(a.expires) < 1 ? 'within a day' : `in ${Math.floor(days(a.expires))} days`}`,
        to: `/agents/${a.name}`,
        tone: 'warn',
      })
  }
  return out
})
const error = computed(() => servers.error.value ?? agents.error.value ?? rules.error.value ?? calls.error.value)
const loaded = computed(() => servers.data.value && agents.data.value && rules.data.value)
const empty = computed(() => loaded.value && !(servers.data.value?.length && agents.data.value?.length && calls.data.value?.length))
const steps = computed(() => [
  { done: !!servers.data.value?.length, text: 'Register a tool server', to: '/servers', how: 'bouncer server register NAME --url URL' },
  { done: !!agents.data.value?.length, text: 'Add an agent and enrol it', to: '/agents', how: 'bouncer enrol NAME --create --config FILE' },
  {
    done: !!rules.data.value?.some((r) => r.effect === 'admit'),
    text: 'Admit the tools it may use',
    to: '/rules',
    how: "bouncer rule add admit --agent NAME --server SERVER --tool '*'",
  },
  { done: !!calls.data.value?.length, text: 'Make a first call from the assistant', to: '/journal', how: 'bouncer journal --follow' },
])

interface Row {
  tool: string
  server: string
  calls: number
  failed: number
  slowest: number
}
const byTool = computed<Row[]>(() => {
  const rows = new Map<string, Row>()
  for (const c of calls.data.value ?? []) {
    const key = `${c.server} ${c.tool}`
    const row = rows.get(key) ?? { tool: c.tool, server: c.server, calls: 0, failed: 0, slowest: 0 }
    row.calls += c.times
    if (c.outcome !== 'ok' && c.outcome !== 'refused') row.failed++
    if (c.outcome === 'ok') row.slowest = Math.max(row.slowest, c.us)
    rows.set(key, row)
  }
  return [...rows.values()]
    .filter((r) => r.slowest)
    .sort((a, b) => b.slowest - a.slowest)
    .slice(0, 8)
})
const slowest = computed(() => Math.max(1, ...byTool.value.map((r) => r.slowest)))
const states = computed(() => {
  const list = servers.data.value ?? []
  return { all: list.length, ready: list.filter((s) => s.health.state === 'ready').length }
})
</script>

<template>
  <div class="pagehead">
    <h1>Overview</h1>
    <span v-if="loaded" class="soft"
      >{{ states.ready }} of {{ states.all }} servers ready, {{ agents.data.value?.length }} agents,
      {{ rules.data.value?.length }} rules</span
    >
  </div>
  <ErrorNote v-if="error" :error="error" :retry="loadAll" />
  <section v-if="empty" class="sheet pad part" aria-label="First steps">
    <h2>First steps</h2>
    <ol class="steps">
      <li v-for="s in steps" :key="s.text" :class="{ done: s.done }">
        <RouterLink :to="s.to">{{ s.text }}</RouterLink> <span v-if="s.done" class="good">done</span>
        <div v-else class="soft">
          or run <code>{{ s.how }}</code>
        </div>
      </li>
    </ol>
  </section>
  <section class="sheet pad part" aria-label="To do">
    <h2>Needs attention</h2>
    <p v-if="loaded && !tasks.length" class="good">● Nothing needs you right now.</p>
    <ul class="tasks">
      <li v-for="t in tasks" :key="t.what">
        <span :class="t.tone" aria-hidden="true">{{ t.tone === 'bad' ? '◆' : '▲' }}</span>
        <RouterLink :to="t.to">{{ t.what }}</RouterLink> <span class="soft">{{ t.why }}</span>
      </li>
    </ul>
  </section>
  <section class="sheet pad part">
    <h2>Calls, last 24 hours</h2>
    <CallChart v-if="counts.data.value" :buckets="counts.data.value" :since="since" :step="step" :count="slots" />
  </section>
  <div class="columns">
    <section class="sheet pad part">
      <h2>Slowest tools</h2>
      <p v-if="calls.data.value && !byTool.length" class="soft">
        No calls in the last 24 hours. <RouterLink to="/journal">Open the journal</RouterLink>
      </p>
      <div v-for="r in byTool" :key="r.server + r.tool" class="tool">
        <RouterLink :to="`/servers/${r.server}`" class="name"
          >{{ r.server }} <span class="mono">{{ r.tool }}</span></RouterLink
        >
        <span class="bar" :style="{ width: `${Math.max(1, (r.slowest / slowest) * 100)}px` }" />
        <span class="num soft">{{ took(r.slowest) }}</span>
        <span class="num soft"
          >{{ r.calls === 1 ? '1 call' : `${r.calls} calls` }}<span v-if="r.failed" class="bad">, {{ r.failed }} failed</span></span
        >
      </div>
    </section>
    <section v-if="may('changes.see')" class="sheet pad part">
      <h2><RouterLink to="/changes">Recent changes</RouterLink></h2>
      <p v-if="changes.data.value && !changes.data.value.length" class="soft">Nothing has been changed yet.</p>
      <div v-for="c in changes.data.value ?? []" :key="c.id" class="change">
        <span class="soft">{{ ago(c.at) }}</span> <span>{{ c.person }}</span> <span class="mono">{{ c.what }}</span> {{ c.subject }}
      </div>
    </section>
  </div>
</template>

<style scoped>
.part {
  margin-bottom: 14px;
}
h2 {
  margin: 0 0 8px;
}
.tasks,
.steps {
  margin: 0;
  padding: 0;
  list-style: none;
}
.steps {
  list-style: decimal;
  padding-left: 20px;
}
.tasks li,
.steps li {
  padding: 3px 0;
}
.tasks li > span:first-child {
  margin-right: 6px;
}
.columns {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(360px, 1fr));
  gap: 14px;
}
.tool {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 104px 76px 110px;
  gap: 8px;
  align-items: center;
  padding: 2px 0;
}
.tool .name {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.bar {
  height: 8px;
  border-radius: 2px;
  background: var(--accent);
}
.change {
  padding: 2px 0;
  overflow-wrap: anywhere;
}
</style>
