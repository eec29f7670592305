<script setup lang="ts">
import { ElButton, ElInput, ElRadioButton, ElRadioGroup } from 'element-plus'
import { computed, onMounted, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import * as api from '../api'
import ErrorNote from '../parts/ErrorNote.vue'
import ExplainDrawer from '../parts/ExplainDrawer.vue'
import ListFrame from '../parts/ListFrame.vue'
import AdoptDialog from '../parts/AdoptDialog.vue'
import PassDialog from '../parts/PassDialog.vue'
import AgentDialog from '../parts/AgentDialog.vue'
import CostPanel from '../parts/CostPanel.vue'
import ReachSince from '../parts/ReachSince.vue'
import TapePanel from '../parts/TapePanel.vue'
import RuleDialog from '../parts/RuleDialog.vue'
import StateMark from '../parts/StateMark.vue'
import { attempt, confirmed } from '../use/confirm'
import { removed } from '../use/removal'
import { ago, dateOnly } from '../use/format'
import { useFilter } from '../use/filter'
import { useLive } from '../use/live'
import { useResource } from '../use/resource'
import { useSession } from '../use/session'

const props = defineProps<{ name: string }>()
const { may } = useSession()
const mayKeep = computed(() => may('agents.keep', a.value?.owner ?? ''))
const mayAct = computed(() => may('agents.speak', a.value?.owner ?? ''))
const router = useRouter()
const { filter, match } = useFilter()
const which = ref<'all' | 'yes' | 'no'>('all')
const comparing = ref(false)
const making = ref(false)
const handing = ref(false)
const adopting = ref(false)
function adopted() {
  adopting.value = false
  loadAll()
}
const preset = ref<Partial<api.Rule>>()
const asking = ref<{ agent: string; server: string; tool: string }>()
const agent = useResource(() => api.agent(props.name))
const reach = useResource(() => api.reach(props.name))
const passes = useResource(() => api.passes(props.name))
const contact = useResource(() => api.contact(props.name))
function loadAll() {
  void agent.load()
  void reach.load()
  void passes.load()
  void contact.load()
}
onMounted(loadAll)
watch(() => props.name, loadAll)
useLive({ topics: loadAll, back: loadAll })

const a = computed(() => agent.data.value)
const seen = computed(() => contact.data.value)
const count = (n: number) => (n === 1 ? '1 tool' : `${n} tools`)
const enrolments = computed(() => (passes.data.value ?? []).filter((p) => p.state === 'valid' && p.label).map((p) => p.label))
const can = computed(() => (reach.data.value ?? []).filter((r) => ['answer', 'held'].includes(r.next)).length)
const shown = computed(() => {
  return (reach.data.value ?? []).filter(
    (r) =>
      (which.value === 'all' || ['answer', 'held'].includes(r.next) === (which.value === 'yes')) &&
      match(r.server, r.exposed, r.tool, r.title, r.why, r.lacks),
  )
})

async function pause(paused: boolean) {
  if (await attempt(() => api.updateAgent(props.name, { paused }))) loadAll()
}
async function confirmName() {
  if (
    (await confirmed(`Confirm ${props.name}?`, 'Rules that name agents by a pattern will bind it from the next call on.', 'Confirm')) &&
    (await attempt(() => api.updateAgent(props.name, { confirmed: true })))
  )
    loadAll()
}
async function remove() {
  if (await removed('agents', props.name, 'Its calls are refused at once. The journal stays.', api.removeAgent)) void router.push('/agents')
}
async function revoke(p: api.Pass) {
  const ok = await confirmed('Revoke this pass?', `The next call with the pass ending in ${p.hint} is refused.`, 'Revoke')
  if (ok && (await attempt(() => api.revokePass(props.name, p.id)))) void passes.load()
}
const looks = {
  answer: { text: '● yes', tone: 'good' },
  held: { text: '◐ held', tone: 'warn' },
  spent: { text: '◔ spent', tone: 'warn' },
  refused: { text: '■ no', tone: 'warn' },
  paused: { text: '❙❙ paused', tone: 'soft' },
  'no-credential': { text: '▲ not yet', tone: 'warn' },
  unreachable: { text: '◆ not now', tone: 'bad' },
}
// A refusal wins over any admission, so where a rule refuses, that rule is what
// has to be looked at.
function step(r: api.ReachedTool): 'rule' | 'admit' | 'refuse' {
  if (r.admitted) return 'refuse'
  return r.rule ? 'rule' : 'admit'
}
function ruled() {
  preset.value = undefined
  void reach.load()
}
function handed() {
  handing.value = false
  if (may('agents.see', a.value?.owner ?? '')) loadAll()
  else void router.push('/agents')
}
function propose(r: api.ReachedTool, effect: 'admit' | 'refuse') {
  preset.value = { effect, agent: props.name, server: r.server, tool: r.tool }
}
</script>

<template>
  <div class="pagehead">
    <h1><RouterLink to="/agents" class="soft">Agents</RouterLink> / {{ name }}</h1>
    <StateMark v-if="a" :state="a.paused ? 'paused' : 'active'" />
    <span v-if="a" class="soft">{{ a.kind }} of {{ a.owner || 'the team' }}, last seen {{ ago(a.seen) }}</span>
    <div class="grow" />
    <ElButton v-if="a && !a.confirmed && may('agents.confirm')" @click="confirmName">Confirm the name</ElButton>
    <template v-if="a && mayKeep">
      <ElButton v-if="mayAct && may('servers.keep')" @click="adopting = true">Adopt a file</ElButton>
      <ElButton @click="handing = true">Alter</ElButton>
      <ElButton @click="pause(!a.paused)">{{ a.paused ? 'Resume' : 'Pause' }}</ElButton>
      <ElButton type="danger" plain @click="remove">Remove</ElButton>
    </template>
  </div>
  <ErrorNote v-if="agent.error.value" :error="agent.error.value" :retry="loadAll" />
  <p v-if="a && !a.confirmed" class="note" role="status">
    Nobody has confirmed this agent’s name yet. Rules for a pattern of names, like <code>ops-*</code>, admit nothing for it until an admin
    or a maintainer has.
  </p>
  <template v-if="a">
    <div class="cards">
      <section class="sheet pad seen">
        <h2>Assistant</h2>
        <p v-if="!seen?.times" class="soft">
          Not seen since the service started. Put Bouncer into its file with <code>bouncer enrol {{ name }} --config FILE</code>, and
          restart it.
        </p>
        <dl v-else class="facts">
          <dt>client</dt>
          <dd>{{ seen.client || 'without a name' }} {{ seen.version }}, revision {{ seen.revision }}</dd>
          <dt>last contact</dt>
          <dd>{{ ago(seen.last) }}, {{ seen.times === 1 ? 'once' : `${seen.times} times` }} since the service started</dd>
          <dt>tool list</dt>
          <dd v-if="!seen.fetched" class="warn">not fetched yet</dd>
          <dd v-else-if="seen.stale" class="warn">{{ count(seen.tools) }} of an older list; restart it, or have it list its tools again</dd>
          <dd v-else class="good">{{ count(seen.tools) }}, the present list</dd>
        </dl>
        <p v-if="enrolments.length" class="soft">{{ enrolments.join(' · ') }}</p>
      </section>
      <CostPanel :agent="name" />
    </div>
    <TapePanel v-if="may('servers.keep')" :agent="name" />
    <div class="pagehead sub">
      <h2>Reach</h2>
      <span class="soft">{{ can }} of {{ reach.data.value?.length ?? 0 }} tools</span>
      <ElRadioGroup v-model="which" size="small" aria-label="Which tools">
        <ElRadioButton value="all">all</ElRadioButton>
        <ElRadioButton value="yes">can use</ElRadioButton>
        <ElRadioButton value="no">cannot</ElRadioButton>
      </ElRadioGroup>
      <ElInput
        v-model="filter"
        class="filter"
        size="small"
        placeholder="Filter by server, tool, reason"
        clearable
        aria-label="Filter the reach"
      />
      <ElButton size="small" :aria-pressed="comparing" @click="comparing = !comparing">{{
        comparing ? 'Show the reach now' : 'What changed?'
      }}</ElButton>
    </div>
    <ReachSince v-if="comparing" :agent="name" />
    <ListFrame
      v-else
      :loading="reach.loading.value"
      :error="reach.error.value"
      :total="reach.data.value?.length"
      :shown="shown.length"
      :retry="loadAll"
    >
      <template #empty
        >No server offers a tool yet. <RouterLink to="/servers">Register one</RouterLink>, then admit its tools here.</template
      >
      <table class="list">
        <colgroup>
          <col style="width: 12%" />
          <col style="width: 22%" />
          <col style="width: 11%" />
          <col />
          <col v-if="may('rules.keep')" style="width: 84px" />
        </colgroup>
        <thead>
          <tr>
            <th>Server</th>
            <th>Tool</th>
            <th>Can use</th>
            <th>Why</th>
            <th v-if="may('rules.keep')"></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in shown" :key="r.exposed">
            <td>
              <RouterLink :to="`/servers/${r.server}`">{{ r.server }}</RouterLink>
            </td>
            <td>
              <span class="mono" :title="r.description">{{ r.tool }}</span> <span v-if="r.destructive" class="warn">destructive</span>
              <div class="mono soft served" title="the name that agents see">{{ r.exposed }}</div>
            </td>
            <td>
              <span :class="looks[r.next].tone">{{ looks[r.next].text }}</span>
              <div v-for="t in r.tags ?? []" :key="t" class="soft">{{ t }}</div>
            </td>
            <td class="soft">
              {{ r.why }}
              <button
                class="plain"
                type="button"
                :aria-label="`Explain ${r.tool}`"
                @click="asking = { agent: name, server: r.server, tool: r.tool }"
              >
                Explain</button
              ><span v-if="r.narrowed?.length"> · narrowed by {{ r.narrowed.join(', ') }}</span
              ><RouterLink v-if="r.lacks" :to="r.next === 'unreachable' ? `/servers/${r.server}` : `/connect/${r.server}`" class="lack">{{
                r.lacks
              }}</RouterLink>
            </td>
            <td v-if="may('rules.keep')">
              <RouterLink
                v-if="step(r) === 'rule'"
                :to="{ path: '/rules', query: { rule: r.ruleName } }"
                :aria-label="`The rule that refuses ${r.tool}`"
                >See rule</RouterLink
              >
              <button
                v-else-if="step(r) === 'admit'"
                class="plain"
                type="button"
                :aria-label="`Admit ${r.tool}`"
                @click="propose(r, 'admit')"
              >
                Admit
              </button>
              <button v-else class="plain" type="button" :aria-label="`Refuse ${r.tool}`" @click="propose(r, 'refuse')">Refuse</button>
            </td>
          </tr>
        </tbody>
      </table>
    </ListFrame>
    <div class="pagehead sub gap">
      <h2>Passes</h2>
      <div class="grow" />
      <span v-if="mayKeep && !mayAct" class="soft">Only {{ a.owner }} makes passes: whoever holds one acts with their sign-ins.</span>
      <ElButton v-if="mayKeep && mayAct" size="small" type="primary" @click="making = true">Create a pass</ElButton>
    </div>
    <ListFrame
      :loading="passes.loading.value"
      :error="passes.error.value"
      :total="passes.data.value?.length"
      :shown="passes.data.value?.length ?? 0"
      :retry="loadAll"
    >
      <template #empty
        >This agent has no pass, so it cannot connect. Create one here, or run
        <code>bouncer enrol {{ name }} --config FILE</code>.</template
      >
      <table class="list">
        <thead>
          <tr>
            <th>Token</th>
            <th>State</th>
            <th style="width: 34%">Label</th>
            <th>Created</th>
            <th>Valid until</th>
            <th>Last used</th>
            <th v-if="mayKeep" style="width: 84px"></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="p in passes.data.value" :key="p.id">
            <td class="mono">…{{ p.hint }}</td>
            <td><StateMark :state="p.state" /></td>
            <td>
              {{ p.label || '–' }}<span v-if="p.kind === 'token'" class="soft"> signed in</span
              ><span v-else-if="p.kind === 'address'" class="warn"> in an address</span>
            </td>
            <td class="soft">{{ dateOnly(p.created) }}</td>
            <td>{{ dateOnly(p.expires) }}</td>
            <td class="soft">{{ ago(p.used) }}</td>
            <td v-if="mayKeep"><button v-if="p.state === 'valid'" class="plain" type="button" @click="revoke(p)">Revoke</button></td>
          </tr>
        </tbody>
      </table>
    </ListFrame>
  </template>
  <AdoptDialog v-if="adopting" :agent="name" @close="adopting = false" @done="adopted" />
  <PassDialog v-if="making" :agent="name" @close="making = false" @made="passes.load" />
  <AgentDialog v-if="a && handing" :agent="a" @close="handing = false" @done="handed" />
  <ExplainDrawer v-if="asking" :about="asking" @close="asking = undefined" />
  <RuleDialog v-if="preset" :preset="preset" @close="preset = undefined" @done="ruled" />
</template>

<style scoped>
.cards {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(380px, 1fr));
  gap: 18px;
  align-items: start;
  margin-bottom: 18px;
}
.seen p {
  margin: 6px 0 0;
}
.served {
  font-size: 11px;
  overflow-wrap: anywhere;
}
.note {
  margin: 0 0 12px;
  padding: 8px 12px;
  border: 1px solid var(--line);
  border-left: 3px solid var(--warn);
  border-radius: 5px;
  background: var(--sheet);
}
.lack {
  display: block;
}
.sub {
  margin-bottom: 8px;
}
.sub h2 {
  margin: 0;
}
.gap {
  margin-top: 22px;
}
.filter {
  width: 240px;
}
</style>
