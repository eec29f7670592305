<script setup lang="ts">
import { ElButton, ElCheckbox, ElInput } from 'element-plus'
import { computed, nextTick, onMounted, onScopeDispose, ref, watch } from 'vue'
import * as api from '../api'
import ExplainDrawer from '../parts/ExplainDrawer.vue'
import ListFrame from '../parts/ListFrame.vue'
import RuleDialog from '../parts/RuleDialog.vue'
import { useFilter } from '../use/filter'
import { useLive } from '../use/live'
import { arrange, count, visible } from '../use/matrix'
import { useResource } from '../use/resource'
import { useSession } from '../use/session'

/** Agents and tools at a glance: what each agent's next call would meet. Only what can be seen is drawn. */
const { may } = useSession()
const { filter } = useFilter()
const destructive = ref(false)
const { data, error, loading, load } = useResource((signal) => api.matrix(signal))
onMounted(load)
useLive({ topics: (t) => ['rules', 'servers', 'agents', 'labels', 'bundles', 'people'].includes(t) && void load(), back: load })
const folded = ref(new Set<string>())
const foldAbove = 300
watch(data, (m, before) => {
  if (!m || before) return
  const tools = m.servers.reduce((n, s) => n + s.tools.length, 0)
  if (tools > foldAbove) folded.value = new Set(m.servers.map((s) => s.server))
})
function fold(server: string) {
  const next = new Set(folded.value)
  if (!next.delete(server)) next.add(server)
  folded.value = next
}
const drawn = computed(() => (data.value ? arrange(data.value, filter.value, folded.value, destructive.value) : { lines: [], columns: [] }))
const tools = computed(() => drawn.value.lines.filter((l) => l.t >= 0).length)

const row = 24
const wide = 30
const head = 132
const side = 250
const box = ref<HTMLElement>()
const view = ref({ top: 0, left: 0, width: 800, height: 500 })
function measure() {
  const b = box.value
  if (b) view.value = { top: b.scrollTop, left: b.scrollLeft, width: b.clientWidth, height: b.clientHeight }
}
const watcher = new ResizeObserver(measure)
watch(box, (b) => b && watcher.observe(b))
onScopeDispose(() => watcher.disconnect())
const rows = computed(() => visible(view.value.top, view.value.height, row, drawn.value.lines.length))
const cols = computed(() => visible(view.value.left, view.value.width, wide, drawn.value.columns.length))
const lines = computed(() => drawn.value.lines.slice(rows.value.from, rows.value.to).map((l, i) => ({ l, at: rows.value.from + i })))
const columns = computed(() => drawn.value.columns.slice(cols.value.from, cols.value.to).map((c, i) => ({ c, at: cols.value.from + i })))

const looks: Record<string, { mark: string; tone: string; text: string }> = {
  a: { mark: '●', tone: 'good', text: 'answered' },
  n: { mark: '◍', tone: 'good', text: 'answered, within limits' },
  h: { mark: '◐', tone: 'warn', text: 'held until somebody admits it' },
  r: { mark: '·', tone: 'none', text: 'refused' },
  p: { mark: '❙', tone: 'soft', text: 'paused' },
  s: { mark: '◔', tone: 'warn', text: 'a budget is spent' },
  c: { mark: '△', tone: 'warn', text: 'no credential' },
  u: { mark: '◇', tone: 'bad', text: 'unreachable' },
  '-': { mark: '', tone: 'none', text: 'not offered to it' },
}
const cell = (a: number, s: number, t: number) => looks[data.value?.agents[a].cells[s].charAt(t) ?? '-'] ?? looks['-']

// One cell can be reached with the tabulator, the others with the arrow keys.
const at = ref({ line: 1, column: 0 })
async function move(e: KeyboardEvent) {
  const step = { ArrowDown: [1, 0], ArrowUp: [-1, 0], ArrowRight: [0, 1], ArrowLeft: [0, -1], PageDown: [15, 0], PageUp: [-15, 0] }[e.key]
  if (!step || !box.value) return
  e.preventDefault()
  const line = Math.min(Math.max(0, at.value.line + step[0]), drawn.value.lines.length - 1)
  const column = Math.min(Math.max(0, at.value.column + step[1]), drawn.value.columns.length - 1)
  at.value = { line, column }
  const b = box.value
  b.scrollTop = Math.min(Math.max(b.scrollTop, (line + 1) * row + head - b.clientHeight), line * row)
  b.scrollLeft = Math.min(Math.max(b.scrollLeft, (column + 1) * wide + side - b.clientWidth), column * wide)
  measure()
  await nextTick()
  b.querySelector<HTMLElement>(`[data-at="${line},${column}"]`)?.focus()
}

const asking = ref<{ agent: string; server: string; tool: string }>()
const preset = ref<Partial<api.Rule>>()
function propose(effect: api.Rule['effect']) {
  const q = asking.value
  if (q) preset.value = { effect, agent: q.agent, server: q.server, tool: q.tool }
  asking.value = undefined
}
function ruled() {
  preset.value = undefined
  void load()
}
</script>

<template>
  <div class="pagehead">
    <h1>Reach</h1>
    <ElInput v-model="filter" class="filter" placeholder="Filter by agent, label, server, tool" clearable aria-label="Filter the matrix" />
    <ElCheckbox v-model="destructive">destructive tools only</ElCheckbox>
    <span class="soft">{{ tools }} tools, {{ drawn.columns.length }} agents</span>
  </div>
  <p class="key soft">
    <span v-for="l in ['a', 'n', 'h', 's', 'c', 'u', 'r']" :key="l"
      ><span :class="looks[l].tone">{{ looks[l].mark }}</span> {{ looks[l].text }}</span
    >
  </p>
  <ListFrame
    :loading="loading"
    :error="error"
    :total="data && data.servers.length * data.agents.length"
    :shown="drawn.lines.length * drawn.columns.length"
    :retry="load"
  >
    <template #empty>
      <p>
        There is nothing to show yet: <RouterLink to="/servers">register a server</RouterLink> and
        <RouterLink to="/agents">add an agent</RouterLink>.
      </p>
    </template>
    <div
      ref="box"
      class="box"
      role="grid"
      :aria-rowcount="drawn.lines.length"
      :aria-colcount="drawn.columns.length"
      aria-label="Reach of agents, by tool"
      @scroll="measure"
      @keydown="move"
    >
      <div
        class="plane"
        role="rowgroup"
        :style="{ width: side + drawn.columns.length * wide + 'px', height: head + drawn.lines.length * row + 'px' }"
      >
        <div class="heads" role="row" :style="{ height: head + 'px' }">
          <div
            v-for="{ c, at: x } in columns"
            :key="c.name"
            class="agent"
            role="columnheader"
            :style="{ left: side + x * wide + 'px' }"
            :title="[c.name, c.owner || 'the team', ...c.labels].join(' · ')"
          >
            <RouterLink :to="`/agents/${c.name}`">{{ c.name }}</RouterLink>
          </div>
        </div>
        <div v-for="{ l, at: y } in lines" :key="`${l.s} ${l.t}`" role="row" class="line" :style="{ top: head + y * row + 'px' }">
          <div :class="['name', { group: l.t < 0 }]" role="rowheader" :style="{ width: side + 'px' }" :title="l.title || l.tool">
            <button v-if="l.t < 0" class="plain" type="button" :aria-expanded="!folded.has(l.server)" @click="fold(l.server)">
              {{ folded.has(l.server) ? '▸' : '▾' }} {{ l.server }}
            </button>
            <span v-else class="mono" :class="{ bad: l.destructive }">{{ l.tool }}</span>
          </div>
          <template v-for="{ c, at: x } in columns" :key="c.name">
            <span
              v-if="l.t < 0"
              role="gridcell"
              class="cell sum soft"
              :tabindex="at.line === y && at.column === x ? 0 : -1"
              :data-at="`${y},${x}`"
              :style="{ left: side + x * wide + 'px' }"
              >{{ data ? count(data, c, l.s) : '' }}</span
            >
            <button
              v-else
              type="button"
              role="gridcell"
              :class="['cell', cell(c.a, l.s, l.t).tone]"
              :tabindex="at.line === y && at.column === x ? 0 : -1"
              :data-at="`${y},${x}`"
              :style="{ left: side + x * wide + 'px' }"
              :title="`${c.name}, ${l.server}/${l.tool}: ${cell(c.a, l.s, l.t).text}`"
              :aria-label="`${c.name}, ${l.tool}: ${cell(c.a, l.s, l.t).text}`"
              @focus="at = { line: y, column: x }"
              @click="asking = { agent: c.name, server: l.server, tool: l.tool }"
            >
              {{ cell(c.a, l.s, l.t).mark }}
            </button>
          </template>
        </div>
      </div>
    </div>
  </ListFrame>
  <ExplainDrawer v-if="asking" :about="asking" @close="asking = undefined">
    <p v-if="may('rules.keep')" class="act">
      <ElButton size="small" @click="propose('admit')">Admit it</ElButton>
      <ElButton size="small" @click="propose('hold')">Hold it</ElButton>
      <ElButton size="small" @click="propose('refuse')">Refuse it</ElButton>
    </p>
  </ExplainDrawer>
  <RuleDialog v-if="preset" :preset="preset" @close="preset = undefined" @done="ruled" />
</template>

<style scoped>
.filter {
  width: 270px;
}
.key {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 16px;
  margin: -6px 0 10px;
}
.box {
  overflow: auto;
  height: calc(100vh - 150px);
  min-height: 300px;
  padding: 0;
}
.plane {
  position: relative;
  min-width: 100%;
}
.heads {
  position: sticky;
  top: 0;
  z-index: 2;
  background: var(--sheet);
  border-bottom: 1px solid var(--line);
}
.agent {
  position: absolute;
  bottom: 6px;
  width: 30px;
  height: 120px;
  writing-mode: vertical-rl;
  transform: rotate(180deg);
  display: flex;
  align-items: center;
  overflow: hidden;
  white-space: nowrap;
}
.line {
  position: absolute;
  left: 0;
  right: 0;
  height: 24px;
  border-bottom: 1px solid color-mix(in srgb, var(--line) 55%, transparent);
}
.line:hover {
  background: color-mix(in srgb, var(--accent) 8%, transparent);
}
.name {
  position: sticky;
  left: 0;
  z-index: 1;
  height: 23px;
  line-height: 23px;
  padding: 0 8px 0 22px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  background: var(--sheet);
}
.name.group {
  padding-left: 8px;
  font-weight: 600;
}
.cell {
  all: unset;
  position: absolute;
  top: 0;
  width: 30px;
  height: 23px;
  line-height: 23px;
  text-align: center;
  cursor: pointer;
}
.cell.sum {
  font-size: 11px;
  cursor: default;
}
.cell:focus-visible {
  outline: 2px solid var(--accent);
  outline-offset: -2px;
}
.good {
  color: var(--good);
}
.warn {
  color: var(--warn);
}
.bad {
  color: var(--bad);
}
.none {
  color: var(--quiet);
}
.act {
  margin-top: 18px;
}
</style>
