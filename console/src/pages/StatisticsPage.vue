<script setup lang="ts">
import { ElInput, ElOption, ElRadioButton, ElRadioGroup, ElSelect } from 'element-plus'
import { computed, onMounted, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import * as api from '../api'
import ErrorNote from '../parts/ErrorNote.vue'
import ListFrame from '../parts/ListFrame.vue'
import TimeChart, { type Line } from '../parts/TimeChart.vue'
import { useFilter } from '../use/filter'
import { bytes, millis } from '../use/format'
import { useResource } from '../use/resource'

/** How calls went over time: how many, how they ended, how long they took. */
const router = useRouter()
const spans = [
  { text: 'last hour', hours: 1 },
  { text: 'last 12 hours', hours: 12 },
  { text: 'last day', hours: 24 },
  { text: 'last week', hours: 168 },
  { text: 'last fortnight', hours: 336 },
  { text: 'last quarter', hours: 2208 },
  { text: 'last year', hours: 8760 },
]
const hours = ref(24)
const by = ref<api.Stats['by']>('server')
const server = ref('')
const agent = ref('')
const servers = useResource(() => api.servers())
const agents = useResource(() => api.agents())
const stats = useResource((signal) =>
  api.stats(
    { since: new Date(Date.now() - hours.value * 3_600_000).toISOString(), by: by.value, server: server.value, agent: agent.value },
    signal,
  ),
)
onMounted(() => {
  void stats.load()
  void servers.load()
  void agents.load()
})
watch([hours, by, server, agent], () => stats.load())
const { filter, match } = useFilter()

const points = computed(() => stats.data.value?.points ?? [])
const times = computed(() => points.value.map((p) => p.at))
const outcomes = computed<Line[]>(() => [
  { name: 'done', color: 'accent', stack: true, values: points.value.map((p) => p.ok) },
  { name: 'refused', color: 'warn', stack: true, values: points.value.map((p) => p.refused) },
  { name: 'failed', color: 'bad', stack: true, values: points.value.map((p) => p.failed) },
])
const lengths = computed<Line[]>(() => [
  { name: 'half', color: 'good', values: points.value.map((p) => p.p50) },
  { name: '95 of 100', color: 'warn', values: points.value.map((p) => p.p95) },
  { name: '99 of 100', color: 'bad', values: points.value.map((p) => p.p99) },
])
const sizes = computed<Line[]>(() => [
  { name: 'arguments', color: 'accent', stack: true, values: points.value.map((p) => p.bytesIn) },
  { name: 'results', color: 'good', stack: true, values: points.value.map((p) => p.bytesOut) },
])
const count = (n: number) => n.toLocaleString()
const all = (f: api.Figures) => f.ok + f.refused + f.failed
const share = (f: api.Figures) => (f.failed ? f.failed / (f.ok + f.failed) : 0)
type Order = 'calls' | 'failed' | 'p95' | 'bytes'
const order = ref<Order>('calls')
const orders: Record<Order, (g: api.StatsGroup) => number> = {
  calls: all,
  failed: share,
  p95: (g) => g.p95,
  bytes: (g) => g.bytesIn + g.bytesOut,
}
const groups = computed(() =>
  [...(stats.data.value?.groups ?? [])].filter((g) => match(g.name)).sort((a, b) => orders[order.value](b) - orders[order.value](a)),
)
/** The calls behind a step. */
function open(index: number) {
  const s = stats.data.value
  const p = points.value[index]
  if (!s || !p) return
  const until = new Date(new Date(p.at).getTime() + s.step * 1000).toISOString()
  void router.push({ path: '/journal', query: { since: p.at, until, server: server.value || undefined, agent: agent.value || undefined } })
}
const linked = (g: api.StatsGroup) => {
  const at = { since: stats.data.value?.since, until: stats.data.value?.until }
  const [of, tool] = g.name.split('/')
  const own = {
    server: { server: g.name },
    tool: { server: of, tool },
    agent: { agent: g.name },
    person: g.name ? { person: g.name } : {},
  }[by.value]
  return { path: '/journal', query: { ...at, server: server.value || undefined, agent: agent.value || undefined, ...own } }
}
const named = (name: string) => name || (by.value === 'person' ? 'the team' : 'none')
</script>

<template>
  <div class="pagehead">
    <h1>Statistics</h1>
    <span v-if="stats.data.value" class="soft"
      >{{ count(all(stats.data.value.total)) }} calls, {{ count(stats.data.value.total.refused) }} refused,
      {{ count(stats.data.value.total.failed) }} failed; half took at most {{ millis(stats.data.value.total.p50) }}</span
    >
    <div class="grow" />
    <ElSelect v-model="hours" class="span" aria-label="Time that is shown"
      ><ElOption v-for="s in spans" :key="s.hours" :value="s.hours" :label="s.text"
    /></ElSelect>
    <ElSelect v-model="server" class="pick" clearable placeholder="all servers" aria-label="Server"
      ><ElOption v-for="s in servers.data.value ?? []" :key="s.id" :value="s.name" :label="s.name"
    /></ElSelect>
    <ElSelect v-model="agent" class="pick" clearable placeholder="all agents" aria-label="Agent"
      ><ElOption v-for="a in agents.data.value ?? []" :key="a.id" :value="a.name" :label="a.name"
    /></ElSelect>
  </div>
  <ErrorNote v-if="stats.error.value" :error="stats.error.value" :retry="stats.load" />
  <div v-if="stats.data.value" class="charts">
    <section class="sheet pad"><TimeChart title="Calls" :times="times" :lines="outcomes" :unit="count" @chosen="open" /></section>
    <section class="sheet pad">
      <TimeChart title="How long they took" :times="times" :lines="lengths" :unit="millis" @chosen="open" />
    </section>
    <section class="sheet pad"><TimeChart title="Bytes carried" :times="times" :lines="sizes" :unit="bytes" @chosen="open" /></section>
  </div>
  <div class="pagehead sub">
    <ElRadioGroup v-model="by" size="small" aria-label="Told apart by">
      <ElRadioButton value="server">by server</ElRadioButton>
      <ElRadioButton value="tool">by tool</ElRadioButton>
      <ElRadioButton value="agent">by agent</ElRadioButton>
      <ElRadioButton value="person">by person</ElRadioButton>
    </ElRadioGroup>
    <ElRadioGroup v-model="order" size="small" aria-label="Order">
      <ElRadioButton value="calls">most calls</ElRadioButton>
      <ElRadioButton value="failed">most failing</ElRadioButton>
      <ElRadioButton value="p95">slowest</ElRadioButton>
      <ElRadioButton value="bytes">largest</ElRadioButton>
    </ElRadioGroup>
    <ElInput v-model="filter" class="filter" size="small" placeholder="Filter by name" clearable aria-label="Filter by name" />
  </div>
  <ListFrame
    :loading="stats.loading.value"
    :error="stats.error.value"
    :total="stats.data.value?.groups.length"
    :shown="groups.length"
    :retry="stats.load"
  >
    <template #empty>
      <p>No call in this time.</p>
      <p>Choose a longer one, or enrol an assistant with <code>bouncer enrol AGENT --config FILE</code>.</p>
    </template>
    <table class="list">
      <colgroup>
        <col />
        <col style="width: 9%" />
        <col style="width: 9%" />
        <col style="width: 13%" />
        <col style="width: 9%" />
        <col style="width: 9%" />
        <col style="width: 9%" />
        <col style="width: 10%" />
        <col style="width: 10%" />
      </colgroup>
      <thead>
        <tr>
          <th>{{ by[0]?.toUpperCase() }}{{ by.slice(1) }}</th>
          <th class="num">Calls</th>
          <th class="num">Refused</th>
          <th class="num">Failed</th>
          <th class="num">p50</th>
          <th class="num">p95</th>
          <th class="num">p99</th>
          <th class="num">Sent</th>
          <th class="num">Received</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="g in groups" :key="g.name">
          <td class="clip mono">
            <RouterLink :to="linked(g)" :title="`The calls of ${named(g.name)}`">{{ named(g.name) }}</RouterLink>
          </td>
          <td class="num">{{ count(all(g)) }}</td>
          <td class="num">{{ count(g.refused) }}</td>
          <td class="num" :class="{ bad: share(g) > 0.1 }">
            {{ count(g.failed) }}<span v-if="g.failed"> ({{ Math.round(100 * share(g)) }} %)</span>
          </td>
          <td class="num">{{ millis(g.p50) }}</td>
          <td class="num">{{ millis(g.p95) }}</td>
          <td class="num">{{ millis(g.p99) }}</td>
          <td class="num">{{ bytes(g.bytesIn) }}</td>
          <td class="num">{{ bytes(g.bytesOut) }}</td>
        </tr>
      </tbody>
    </table>
  </ListFrame>
</template>

<style scoped>
.charts {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(300px, 1fr));
  gap: 14px;
  margin-bottom: 16px;
}
.sub :deep(.el-radio-group) {
  flex: none;
  flex-wrap: nowrap;
}
.filter {
  flex: 0 1 220px;
}
.span {
  flex: 0 0 150px;
}
.pick {
  flex: 0 0 150px;
}
@media (max-width: 1100px) {
  .charts {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
