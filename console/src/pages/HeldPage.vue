<script setup lang="ts">
import { ElButton, ElCheckbox, ElInput } from 'element-plus'
import { computed, onMounted, onScopeDispose, ref } from 'vue'
import * as api from '../api'
import DecideDialog from '../parts/DecideDialog.vue'
import ListFrame from '../parts/ListFrame.vue'
import StateMark from '../parts/StateMark.vue'
import { attempt } from '../use/confirm'
import { useFilter } from '../use/filter'
import { fullMoment, moment, pretty, span } from '../use/format'
import { useHeldSound } from '../use/held'
import { useLive } from '../use/live'
import { useResource } from '../use/resource'

/** Calls that wait until somebody decides, live, and what was decided lately. */
const sound = useHeldSound()
const { filter, among } = useFilter()
const { data, error, loading, load } = useResource(() => api.heldCalls())
const standing = useResource(() => api.standing())
const deciding = ref<api.HeldCall>()
function loadAll() {
  void load()
  void standing.load()
}
onMounted(loadAll)
useLive({ topics: (t) => t === 'held' && loadAll(), back: loadAll })
const now = ref(Date.now())
const clock = window.setInterval(() => (now.value = Date.now()), 1000)
onScopeDispose(() => window.clearInterval(clock))
const words = (c: api.HeldCall) => [c.agent, c.owner, c.server, c.tool, c.rule, c.state, c.by, c.word, JSON.stringify(c.arguments)]
const shown = computed(() => among(data.value, words))
const waiting = computed(() => shown.value.filter((c) => c.state === 'waiting'))
const past = computed(() => shown.value.filter((c) => c.state !== 'waiting'))
const left = (c: api.HeldCall) => Math.max(0, Math.round((Date.parse(c.until) - now.value) / 1000))
const effects: Record<string, string> = {
  destructive: 'destroys or overwrites',
  'read-only': 'only reads',
  idempotent: 'the same when repeated',
  'open-world': 'reaches outside',
}
const ways: Record<string, string> = {
  once: 'once',
  session: 'for the session',
  calls: 'and more calls',
  hour: 'for an hour',
  changed: 'with other arguments',
  refuse: '',
  expired: 'nobody decided in time',
  cancelled: 'the agent gave up',
}
async function admit(c: api.HeldCall) {
  if (await attempt(() => api.decideHeld(c.id, { how: 'once' }))) loadAll()
}
async function takeBack(s: api.StandingDecision) {
  if (await attempt(() => api.takeBack(s.id))) void standing.load()
}
function decided() {
  deciding.value = undefined
  loadAll()
}
</script>

<template>
  <div class="pagehead">
    <h1>Held calls</h1>
    <ElInput v-model="filter" class="filter" placeholder="Filter by agent, tool, person" clearable aria-label="Filter held calls" />
    <span class="soft">{{ waiting.length }} waiting</span>
    <div class="grow" />
    <ElCheckbox v-model="sound">Sound when a call begins to wait</ElCheckbox>
  </div>
  <ListFrame :loading="loading" :error="error" :total="data?.length" :shown="shown.length" :retry="load">
    <template #empty>
      <p>No call waits, and none did since the service started.</p>
      <p>
        A rule with the effect <em>hold</em> makes calls wait until somebody admits them: <RouterLink to="/rules">add one</RouterLink> for a
        destructive tool.
      </p>
    </template>
    <section v-for="c in waiting" :key="c.id" class="call" :aria-label="`${c.tool} for ${c.agent}`">
      <div class="what">
        <div class="head">
          <strong class="mono">{{ c.server }} / {{ c.tool }}</strong>
          <span v-if="c.title" class="soft">{{ c.title }}</span>
          <span
            v-for="e in c.effects ?? []"
            :key="e"
            :class="e === 'destructive' ? 'bad' : 'soft'"
            title="by its tags and by what its server says"
            >{{ effects[e] ?? e }}</span
          >
        </div>
        <div>
          asked by <RouterLink :to="`/agents/${c.agent}`">{{ c.agent }}</RouterLink> of {{ c.owner || 'the team' }} at {{ moment(c.at) }},
          held by rule <RouterLink :to="{ path: '/rules', query: { rule: c.rule } }">{{ c.rule }}</RouterLink><span
            v-if="c.note"
            class="soft"
          >
            ({{ c.note }})</span
          >
        </div>
        <pre class="body" tabindex="0">{{ c.arguments ? pretty(JSON.stringify(c.arguments)) : 'no arguments' }}</pre>
      </div>
      <div class="side">
        <div :class="['left', { bad: left(c) < 30 }]" role="timer">{{ span(left(c)) }} left</div>
        <template v-if="c.mine">
          <ElButton type="primary" :aria-label="`Admit ${c.tool} once`" @click="admit(c)">Admit once</ElButton>
          <ElButton :aria-label="`Decide ${c.tool} otherwise`" @click="deciding = c">Otherwise…</ElButton>
        </template>
        <p v-else class="soft">Not yours to decide: {{ c.why }}.</p>
      </div>
    </section>
    <p v-if="!waiting.length" class="soft none">No call waits at the moment.</p>
    <template v-if="standing.data.value?.length">
      <h2 class="gap">Admitted in advance</h2>
      <table class="list">
        <thead>
          <tr>
            <th>Agent</th>
            <th>Tool</th>
            <th>Rule</th>
            <th>By</th>
            <th>Admits</th>
            <th>Until</th>
            <th style="width: 96px"></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="s in standing.data.value" :key="s.id">
            <td>{{ s.agent }}</td>
            <td class="mono">{{ s.server }}/{{ s.tool }}</td>
            <td>{{ s.rule }}</td>
            <td>{{ s.by }}</td>
            <td>{{ s.left ? `${s.left} more` : 'any number' }}</td>
            <td>{{ s.how === 'session' ? 'the session ends' : moment(s.until) }}</td>
            <td><button v-if="s.mine" class="plain" type="button" @click="takeBack(s)">Take back</button></td>
          </tr>
        </tbody>
      </table>
    </template>
    <template v-if="past.length">
      <h2 class="gap">Decided</h2>
      <table class="list">
        <colgroup>
          <col style="width: 118px" />
          <col style="width: 13%" />
          <col style="width: 20%" />
          <col />
          <col style="width: 110px" />
          <col style="width: 22%" />
        </colgroup>
        <thead>
          <tr>
            <th>Time</th>
            <th>Agent</th>
            <th>Tool</th>
            <th>Arguments</th>
            <th>State</th>
            <th>By</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="c in past" :key="c.id">
            <td class="soft" :title="fullMoment(c.at)">{{ moment(c.at) }}</td>
            <td>{{ c.agent }}</td>
            <td class="mono">{{ c.server }}/{{ c.tool }}</td>
            <td class="mono soft cut" :title="JSON.stringify(c.arguments)">{{ JSON.stringify(c.arguments) }}</td>
            <td><StateMark :state="c.state" /></td>
            <td>
              {{ c.by }} {{ ways[c.how ?? ''] }}<span v-if="c.word" class="soft">: {{ c.word }}</span>
            </td>
          </tr>
        </tbody>
      </table>
    </template>
  </ListFrame>
  <DecideDialog v-if="deciding" :call="deciding" @close="deciding = undefined" @done="decided" />
</template>

<style scoped>
.filter {
  width: 250px;
}
.call {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 190px;
  gap: 18px;
  padding: 14px 16px;
  border-left: 3px solid var(--warn);
  border-bottom: 1px solid var(--line);
}
.head {
  display: flex;
  gap: 12px;
  flex-wrap: wrap;
  margin-bottom: 4px;
}
.what pre {
  margin-top: 8px;
  max-height: 180px;
}
.side {
  display: flex;
  flex-direction: column;
  gap: 8px;
}
.side .el-button + .el-button {
  margin-left: 0;
}
.left {
  font-size: 16px;
  font-variant-numeric: tabular-nums;
}
.gap {
  margin: 18px 16px 8px;
}
.none {
  padding: 4px 16px;
}
.cut {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
</style>
