<script setup lang="ts">
import { ElButton, ElDatePicker, ElInput, ElOption, ElSelect } from 'element-plus'
import { computed, onMounted, reactive, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import * as api from '../api'
import CallChart from '../parts/CallChart.vue'
import CallDrawer from '../parts/CallDrawer.vue'
import ListFrame from '../parts/ListFrame.vue'
import StateMark from '../parts/StateMark.vue'
import { moment, took } from '../use/format'
import { useLive } from '../use/live'
import { useResource } from '../use/resource'
import { useCallTotal } from '../use/total'

const pageSize = 100
const mostRows = 1000
const steps = [
  { text: 'last hour', step: 60, count: 60 },
  { text: 'last day', step: 1800, count: 48 },
  { text: 'last fortnight', step: 21600, count: 56 },
]
const span = ref(0)
const route = useRoute()
const asked = (name: string) => (typeof route.query[name] === 'string' ? route.query[name] : '')
const filter = reactive({
  agent: asked('agent'),
  person: asked('person'),
  server: asked('server'),
  tool: asked('tool'),
  rule: asked('rule'),
  decision: '',
  outcome: asked('outcome'),
  text: asked('text'),
})
/** A part of time that somebody came for, from a point of a chart. */
const part = reactive({ since: asked('since'), until: asked('until') })
const windowed = computed(() => Boolean(part.since || part.until))
const times = computed<[Date, Date] | null>({
  get: (): [Date, Date] | null => (windowed.value ? [new Date(part.since || 0), part.until ? new Date(part.until) : new Date()] : null),
  set: (v: [Date, Date] | null) => {
    part.since = v ? v[0].toISOString() : ''
    part.until = v ? v[1].toISOString() : ''
    loadAll()
  },
})
const rows = ref<api.Call[]>([])
const more = ref(false)
const selected = ref('')
const held = ref(false)
const waiting = ref(0)
const since = ref(0)

const list = useResource((signal) => api.calls({ ...filter, ...part, limit: pageSize }, signal))
const counts = useResource((signal) => {
  const s = steps[span.value]
  const width = s.step * 1000
  since.value = Math.floor(Date.now() / width) * width - (s.count - 1) * width
  return api.callCounts({ ...filter, since: new Date(since.value).toISOString() }, s.step, signal)
})
const state = useResource(() => api.journalState())
const agents = useResource(() => api.agents())
const people = useResource(() => api.people())
const rules = useResource(() => api.rules())
const found = useCallTotal()
const servers = useResource(() => api.servers())
const outcomes = ['ok', 'tool-error', 'error', 'refused', 'cancelled', 'timeout', 'unreachable', 'no-credential']

async function loadList() {
  await list.load()
  rows.value = list.data.value ?? []
  more.value = rows.value.length === pageSize
  waiting.value = 0
}
function loadAll() {
  void loadList()
  void counts.load()
  found.count({ ...filter, ...part })
}
async function older() {
  const last = rows.value.at(-1)
  if (!last) return
  const next = await api.calls({ ...filter, ...part, before: last.id, limit: pageSize })
  rows.value = [...rows.value, ...next]
  more.value = next.length === pageSize && rows.value.length < mostRows
}
onMounted(() => {
  loadAll()
  void agents.load()
  void servers.load()
  void people.load()
  void rules.load()
  void state.load()
})
let delay = 0
watch(filter, () => {
  window.clearTimeout(delay)
  delay = window.setTimeout(loadAll, 200)
})
watch(span, () => counts.load())

// A text filter looks into arguments and results, which live records do not
// carry, and the names of rules and globs are the service's to know: the list is
// asked for again instead.
const matches = (c: api.Call) =>
  (!filter.agent || c.agent === filter.agent) &&
  (!filter.person || c.person === filter.person) &&
  (!filter.server || c.server === filter.server) &&
  (!filter.decision || (filter.decision === 'held' ? Boolean(c.control?.held) : c.decision === filter.decision)) &&
  (!filter.outcome || c.outcome === filter.outcome)
let again = 0
function arrive(calls: api.Call[]) {
  window.clearTimeout(again)
  again = window.setTimeout(() => {
    void counts.load()
    found.recount({ ...filter, ...part })
  }, 1000)
  const fresh = calls.filter(matches)
  if (fresh.length === 0 || windowed.value) return
  if (held.value) {
    waiting.value += fresh.length
    return
  }
  if (filter.text || filter.tool || filter.rule) {
    void loadList()
    return
  }
  // A refusal that repeats comes again with its count.
  const renewed = new Map(fresh.map((c) => [c.id, c]))
  const known = new Set(rows.value.map((c) => c.id))
  const counted = rows.value.map((c) => renewed.get(c.id) ?? c)
  const added = fresh.reverse().filter((c) => !known.has(c.id))
  rows.value = [...added, ...counted].slice(0, mostRows)
  found.add(added.length)
}
useLive({ calls: arrive, back: loadAll })

const total = computed(() =>
  list.data.value === undefined ? undefined : filtering.value ? Math.max(1, rows.value.length) : rows.value.length,
)
const filtering = computed(() => windowed.value || Object.values(filter).some(Boolean))
const holdText = computed(() => (held.value ? `Resume${waiting.value ? ` (${waiting.value} new)` : ''}` : 'Pause updates'))
function hold() {
  held.value = !held.value
  if (!held.value) loadAll()
}
</script>

<template>
  <div class="pagehead">
    <h1>Journal</h1>
    <span class="soft">Every call, admitted or refused, as it happens.</span>
    <div class="grow" />
    <ElSelect v-model="span" class="span" aria-label="Time shown in the chart"
      ><ElOption v-for="(s, i) in steps" :key="s.text" :value="i" :label="s.text"
    /></ElSelect>
    <ElButton :aria-pressed="held" @click="hold">{{ holdText }}</ElButton>
  </div>
  <p v-if="state.data.value && !state.data.value.recording" class="unrecorded" role="alert">
    <strong>Calls are not recorded:</strong> {{ state.data.value.why }}.
    {{ state.data.value.mode === 'strict' ? 'Until then calls are refused.' : `${state.data.value.lost} calls were lost since the start.` }}
  </p>
  <p v-else-if="state.data.value?.lost" class="unrecorded" role="status">
    {{ state.data.value.lost }} calls ran since the start that could not be recorded.
  </p>
  <section v-if="!windowed" class="sheet pad chartbox">
    <CallChart :buckets="counts.data.value ?? []" :since="since" :step="steps[span].step" :count="steps[span].count" />
  </section>
  <div class="bar">
    <ElSelect v-model="filter.agent" class="pick" clearable placeholder="all agents" aria-label="Agent"
      ><ElOption v-for="a in agents.data.value ?? []" :key="a.id" :value="a.name" :label="a.name"
    /></ElSelect>
    <ElSelect v-model="filter.person" class="pick" clearable placeholder="all people" aria-label="Person"
      ><ElOption v-for="p in people.data.value ?? []" :key="p.id" :value="p.name" :label="p.name"
    /></ElSelect>
    <ElSelect v-model="filter.server" class="pick" clearable placeholder="all servers" aria-label="Server"
      ><ElOption v-for="s in servers.data.value ?? []" :key="s.id" :value="s.name" :label="s.name"
    /></ElSelect>
    <ElInput v-model="filter.tool" class="pick" clearable placeholder="Tool, as in find_*" aria-label="Tool" />
    <ElSelect v-model="filter.rule" class="pick" clearable filterable placeholder="all rules" aria-label="Rule"
      ><ElOption v-for="r in rules.data.value ?? []" :key="r.id" :value="r.name" :label="r.name"
    /></ElSelect>
    <ElSelect v-model="filter.decision" class="pick" clearable placeholder="all decisions" aria-label="Decision">
      <ElOption value="admit" label="admitted" />
      <ElOption value="refuse" label="refused" />
      <ElOption value="held" label="held" />
    </ElSelect>
    <ElSelect v-model="filter.outcome" class="pick" clearable placeholder="all outcomes" aria-label="Outcome"
      ><ElOption v-for="o in outcomes" :key="o" :value="o" :label="o"
    /></ElSelect>
    <ElInput v-model="filter.text" class="text" clearable placeholder="Text in tool, error, arguments, result" aria-label="Text" />
    <ElDatePicker
      v-model="times"
      type="datetimerange"
      range-separator="–"
      start-placeholder="any time"
      end-placeholder=""
      format="D MMM HH:mm"
      class="times"
      aria-label="Time"
    />
  </div>
  <p class="found soft" role="status">
    <template v-if="found.failed.value">How many there are could not be counted: {{ found.failed.value }}</template>
    <template v-else-if="found.total.value"
      >{{ found.total.value.found.toLocaleString() }} {{ found.total.value.found === 1 ? 'call' : 'calls'
      }}{{ found.total.value.done ? '' : ` so far, of ${found.total.value.seen.toLocaleString()}` }}</template
    >
    <template v-if="found.total.value?.found">
      · as <a :href="api.callExportAddress({ ...filter, ...part }, 'csv')" download>CSV</a> or
      <a :href="api.callExportAddress({ ...filter, ...part }, 'jsonl')" download>JSON lines</a></template
    >
  </p>
  <ListFrame :loading="list.loading.value" :error="list.error.value" :total="total" :shown="rows.length" :retry="loadAll">
    <template #empty>
      <p>No call has been made yet.</p>
      <p>Enrol an assistant with <code>bouncer enrol AGENT --config FILE</code>; its calls appear here as they happen.</p>
    </template>
    <table class="list">
      <colgroup>
        <col style="width: 118px" />
        <col style="width: 13%" />
        <col style="width: 11%" />
        <col style="width: 18%" />
        <col style="width: 104px" />
        <col style="width: 82px" />
        <col />
      </colgroup>
      <thead>
        <tr>
          <th>Time</th>
          <th>Agent</th>
          <th>Server</th>
          <th>Tool</th>
          <th>Outcome</th>
          <th class="num">Duration</th>
          <th>Error</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="c in rows" :key="c.id" class="opens">
          <td>
            <button class="plain whole" type="button" :aria-label="`Call at ${moment(c.at)} in full`" @click="selected = c.id">
              {{ moment(c.at) }}
            </button>
          </td>
          <td class="clip">{{ c.agent }}</td>
          <td class="clip">{{ c.server || '–' }}</td>
          <td class="clip mono" :title="c.tool">{{ c.tool }}</td>
          <td>
            <StateMark :state="c.outcome" /><span v-if="c.times > 1" class="soft" :title="`${c.times} times within a minute`">
              ×{{ c.times }}</span
            >
          </td>
          <td class="num">{{ took(c.us) }}</td>
          <td class="clip soft" :title="c.error">{{ c.error || '' }}</td>
        </tr>
      </tbody>
    </table>
  </ListFrame>
  <p v-if="more" class="older"><button class="plain" type="button" @click="older">Show older calls</button></p>
  <CallDrawer :id="selected" @close="selected = ''" />
</template>

<style scoped>
.unrecorded {
  margin: 0 0 12px;
  padding: 8px 12px;
  border: 1px solid var(--line);
  border-left: 3px solid var(--bad);
  border-radius: 5px;
  background: var(--sheet);
}
.chartbox {
  margin-bottom: 12px;
}
.span {
  width: 140px;
}
.pick {
  width: 160px;
}
.text {
  width: 280px;
}
.bar :deep(.times) {
  width: 250px;
  flex: none;
}
.found {
  margin: 0 0 8px;
  min-height: 1.4em;
}
.older {
  text-align: center;
}
</style>
