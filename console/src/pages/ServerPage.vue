<script setup lang="ts">
import { ElButton, ElInput, ElMessage } from 'element-plus'
import { computed, onMounted, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import * as api from '../api'
import CheckupPanel from '../parts/CheckupPanel.vue'
import ErrorNote from '../parts/ErrorNote.vue'
import ListFrame from '../parts/ListFrame.vue'
import ServerDialog from '../parts/ServerDialog.vue'
import StateMark from '../parts/StateMark.vue'
import TapePanel from '../parts/TapePanel.vue'
import FlawList from '../parts/FlawList.vue'
import { attempt } from '../use/confirm'
import { removed } from '../use/removal'
import { fullMoment, moment, place } from '../use/format'
import { useFilter } from '../use/filter'
import { useLive } from '../use/live'
import { useProgress } from '../use/progress'
import { useAction, useResource } from '../use/resource'
import { useSession } from '../use/session'

const props = defineProps<{ name: string }>()
const { may } = useSession()
const router = useRouter()
const { filter, among } = useFilter()
const changing = ref(false)
const openTool = ref('')
const server = useResource(() => api.server(props.name))
const tools = useResource(() => api.tools(props.name))
const editions = useResource(() => api.editions(props.name))
const check = useAction()
const progress = useProgress()
function loadAll() {
  void server.load()
  void tools.load()
  void editions.load()
}
onMounted(loadAll)
watch(() => props.name, loadAll)
useLive({ topics: (t) => t === 'servers' && loadAll(), back: loadAll })

const s = computed(() => server.data.value)
const shown = computed(() => among(tools.data.value, (t) => [t.name, t.title, t.description]))
const shownEditions = computed(() => (editions.data.value ?? []).slice(0, 10))
const limits = computed(() => {
  const v = s.value
  return [
    v?.memoryMiB && `${v.memoryMiB} MiB of memory`,
    v?.openFiles && `${v.openFiles} open files`,
    v?.processes && `${v.processes} processes`,
  ]
    .filter(Boolean)
    .join(', ')
})
const credential = computed(() => {
  const v = s.value
  const how = {
    code: 'a sign-in with a browser',
    client: 'Bouncer’s own client credentials',
    workload: 'the platform vouches for Bouncer',
    assertion: 'the identity provider vouches',
  }
  const what = v?.signIn ? how[v.signIn.grant] : v?.secret || v?.per ? 'a stored secret' : 'none'
  return v?.per && v.per !== 'team' ? `${what}, each ${v.per} their own` : what
})
const waiting = computed(() => s.value?.health.state === 'waiting')
const longest = computed(() => Math.max(1, ...(s.value?.health.stages ?? []).map((x) => x.ms)))
const width = (ms: number) => `${Math.max(2, (ms / longest.value) * 160)}px`

let asked: AbortController | undefined
async function reachedBy(call: (name: string, signal: AbortSignal) => Promise<api.Server>) {
  asked = new AbortController()
  const signal = asked.signal
  const done = await check.run(() => progress.during(props.name, call(props.name, signal)))
  if (signal.aborted) check.failure.value = undefined
  loadAll()
  return done
}
const again = () => reachedBy(api.checkServer)
async function restart() {
  if (await reachedBy(api.restartServer)) ElMessage.success(`${props.name} runs anew`)
}
async function pause(paused: boolean) {
  if (await attempt(() => api.updateServer(props.name, { paused }))) loadAll()
}
async function remove() {
  if (await removed('servers', props.name, 'Its tools leave every agent’s reach at once. The journal stays.', api.removeServer))
    void router.push('/servers')
}
function changed() {
  changing.value = false
  loadAll()
}
</script>

<template>
  <div class="pagehead">
    <h1><RouterLink to="/servers" class="soft">Servers</RouterLink> / {{ name }}</h1>
    <StateMark v-if="s" :state="s.health.state" />
    <div class="grow" />
    <template v-if="s && may('servers.keep')">
      <ElButton :loading="check.busy.value" :disabled="s.paused" @click="again">Check now</ElButton>
      <ElButton v-if="s.command" :loading="check.busy.value" :disabled="s.paused" @click="restart">Restart</ElButton>
      <ElButton @click="changing = true">Change</ElButton>
      <ElButton @click="pause(!s.paused)">{{ s.paused ? 'Resume' : 'Pause' }}</ElButton>
      <ElButton type="danger" plain @click="remove">Remove</ElButton>
    </template>
  </div>
  <ErrorNote v-if="server.error.value" :error="server.error.value" :retry="loadAll" />
  <ErrorNote v-if="check.failure.value" :error="check.failure.value" />
  <p v-if="check.busy.value && progress.text.value" class="soft doing" role="status">
    {{ progress.text.value }} <button class="plain" type="button" @click="asked?.abort()">Cancel</button>
  </p>
  <template v-if="s">
    <div v-if="s.health.finding" class="finding" role="status">
      <strong>{{ s.health.finding.message }}</strong>
      <div>Fix: {{ s.health.finding.remedy }}</div>
      <div class="soft">
        Who can fix it: {{ s.health.finding.actor }} · cause <code>{{ s.health.finding.cause }}</code> · since {{ moment(s.health.since) }}.
        Agents keep the last known tools; their calls are told this reason.
      </div>
    </div>
    <div v-if="s.health.altered" class="finding wait" role="status">
      <strong>Its program changed on disk; the process still runs the code before.</strong>
      <div>
        Fix: restart it. Changed file: <code>{{ s.health.altered }}</code>
      </div>
    </div>
    <div v-if="waiting" class="finding wait" role="status">
      <strong>No credentials yet.</strong>
      <div>
        Fix:
        <RouterLink :to="`/connect/${name}${s.per === 'person' ? '' : '?for=team'}`">{{
          s.signIn ? 'sign in' : 'store a token'
        }}</RouterLink>. Until then, calls are told who has to.
      </div>
    </div>
    <div class="cards">
      <section class="sheet pad">
        <h2>Details</h2>
        <dl class="facts">
          <dt>{{ s.command ? 'command' : 'address' }}</dt>
          <dd class="mono">{{ place(s) }}</dd>
          <template v-if="s.dir"
            ><dt>directory</dt>
            <dd class="mono">{{ s.dir }}</dd></template
          >
          <template v-if="s.env?.length"
            ><dt>variables</dt>
            <dd class="mono">{{ s.env.join(' ') }}</dd></template
          >
          <dt>server info</dt>
          <dd>{{ s.health.serverName || '–' }} {{ s.health.serverVersion }}</dd>
          <dt>transport</dt>
          <dd>
            {{ s.transport }}<template v-if="s.transport !== 'rest'">, revision {{ s.health.revision || 'unknown' }}</template>
          </dd>
          <dt>offers</dt>
          <dd>{{ s.health.tools }} tools, {{ s.health.prompts }} prompts, {{ s.health.resources }} resources</dd>
          <template v-if="s.transport !== 'rest'"
            ><dt>sharing</dt>
            <dd>{{ s.sharing }}</dd></template
          >
          <template v-if="limits"
            ><dt>limits</dt>
            <dd>{{ limits }}</dd></template
          >
          <template v-if="s.headers?.length"
            ><dt>headers</dt>
            <dd class="mono">{{ s.headers.join('; ') }}</dd></template
          >
          <dt>credential</dt>
          <dd>{{ credential }}</dd>
          <dt>secret</dt>
          <dd>
            {{ s.secret || 'none' }}<span v-if="s.secretEnv" class="soft"> in the variable {{ s.secretEnv }}</span
            ><span v-else-if="s.secretHeader" class="soft"> in the header {{ s.secretHeader }}</span>
          </dd>
          <template v-if="s.placement && s.placement !== 'everywhere'"
            ><dt>runs</dt>
            <dd>
              {{ s.placement === 'one' ? 'at one node at a time' : `at nodes with the label ${s.placement.slice('label:'.length)}`
              }}<span v-if="s.health.node" class="soft"
                >; {{ s.placement === 'one' ? 'now at' : 'calls from here go to' }} {{ s.health.node }}</span
              >
            </dd></template
          >
          <template v-if="s.health.pid"
            ><dt>process</dt>
            <dd>
              {{ s.health.pid }}<span v-if="s.health.started" class="soft">, started {{ moment(s.health.started) }}</span>
            </dd></template
          >
          <template v-if="s.health.noise"
            ><dt>stray output</dt>
            <dd class="warn">{{ s.health.noise }} lines on standard output that are not the protocol; they are passed over</dd></template
          >
          <template v-if="s.redirect"
            ><dt>redirect</dt>
            <dd class="mono">{{ s.redirect }}</dd></template
          >
          <template v-if="s.privateRanges?.length"
            ><dt>private ranges</dt>
            <dd class="mono">{{ s.privateRanges.join(' ') }}</dd></template
          >
          <dt>registered</dt>
          <dd>{{ fullMoment(s.created) }}</dd>
          <template v-if="s.health.leftOut?.length"
            ><dt>skipped tools</dt>
            <dd class="warn">{{ s.health.leftOut.join('; ') }}</dd></template
          >
        </dl>
      </section>
      <section class="sheet pad">
        <h2>Connection</h2>
        <table v-if="s.health.stages?.length" class="stages">
          <tbody>
            <tr v-for="st in s.health.stages" :key="st.name">
              <td>{{ st.name }}</td>
              <td><span class="stage" :class="{ failed: !st.ok }" :style="{ width: width(st.ms) }" /></td>
              <td class="num">{{ st.ms.toFixed(1) }} ms</td>
              <td :class="st.ok ? 'good' : 'bad'">{{ st.ok ? 'ok' : 'failed' }}</td>
            </tr>
          </tbody>
        </table>
        <p v-else class="soft">No connection since the service started.</p>
      </section>
    </div>
    <CheckupPanel v-if="may('servers.keep')" :server="name" @applied="loadAll" />
    <TapePanel v-if="may('servers.keep')" :server="name" />
    <section v-if="s.health.stderr" class="stderr">
      <h2>Standard error (latest)</h2>
      <pre class="body" tabindex="0">{{ s.health.stderr }}</pre>
    </section>
    <div class="pagehead sub">
      <h2>Tools</h2>
      <ElInput v-model="filter" class="filter" placeholder="Filter tools" clearable aria-label="Filter tools" />
    </div>
    <ListFrame
      :loading="tools.loading.value"
      :error="tools.error.value"
      :total="tools.data.value?.length"
      :shown="shown.length"
      :retry="loadAll"
    >
      <template #empty>This server lists no tools. Check it again, or ask its operator.</template>
      <table class="list">
        <colgroup>
          <col style="width: 22%" />
          <col style="width: 12%" />
          <col />
        </colgroup>
        <thead>
          <tr>
            <th>Tool</th>
            <th>Hints</th>
            <th>Description</th>
          </tr>
        </thead>
        <tbody>
          <template v-for="t in shown" :key="t.name">
            <tr class="opens">
              <td>
                <button
                  class="plain mono whole"
                  type="button"
                  :aria-expanded="openTool === t.name"
                  @click="openTool = openTool === t.name ? '' : t.name"
                >
                  {{ t.name }}
                </button>
                <div class="mono soft served" title="the name that agents see">{{ t.exposed }}</div>
              </td>
              <td>
                <span v-if="t.destructive" class="warn">destructive</span><span v-else-if="t.readOnly" class="soft">read only</span
                ><span v-else class="soft">–</span>
              </td>
              <td>{{ t.description }}</td>
            </tr>
            <tr v-if="openTool === t.name">
              <td colspan="3">
                <pre class="body">{{ JSON.stringify(t.schema.inputSchema, null, 2) }}</pre>
              </td>
            </tr>
          </template>
        </tbody>
      </table>
    </ListFrame>
    <FlawList :server="name" :edition="s.health.edition" />
    <div class="pagehead sub editions"><h2>Editions of the tool list</h2></div>
    <ListFrame
      :loading="editions.loading.value"
      :error="editions.error.value"
      :total="editions.data.value?.length"
      :shown="shownEditions.length"
      :retry="loadAll"
    >
      <template #empty>No tool list has been recorded yet. Check the server to record the first edition.</template>
      <table class="list">
        <colgroup>
          <col style="width: 18%" />
          <col style="width: 14%" />
          <col style="width: 8%" />
          <col />
        </colgroup>
        <thead>
          <tr>
            <th>Recorded</th>
            <th>Edition</th>
            <th>Tools</th>
            <th>What changed</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="e in shownEditions" :key="e.id">
            <td>{{ fullMoment(e.at) }}</td>
            <td class="mono">{{ e.digest.slice(0, 12) }}</td>
            <td>{{ e.tools }}</td>
            <td>
              <span v-if="e.added.length">added {{ e.added.join(', ') }}. </span>
              <span v-if="e.removed.length" class="warn">removed {{ e.removed.join(', ') }}. </span>
              <span v-if="e.changed.length" class="warn">changed {{ e.changed.join(', ') }}.</span>
            </td>
          </tr>
        </tbody>
      </table>
    </ListFrame>
  </template>
  <ServerDialog v-if="changing && s" :server="s" @close="changing = false" @done="changed" />
</template>

<style scoped>
.doing {
  overflow-wrap: anywhere;
}
.served {
  font-size: 11px;
  overflow-wrap: anywhere;
}
.cards {
  display: grid;
  grid-template-columns: 1.2fr 1fr;
  gap: 14px;
  margin-bottom: 18px;
}
.sub {
  margin-bottom: 8px;
}
.editions {
  margin-top: 20px;
}
.sub h2 {
  margin: 0;
}
.filter {
  width: 240px;
}
.stderr {
  margin-bottom: 18px;
}
.stderr pre {
  max-height: 140px;
}
.wait {
  border-color: var(--warn);
  background: color-mix(in srgb, var(--warn) 9%, var(--sheet));
}
.stages td {
  padding: 2px 12px 2px 0;
}
.stages .num {
  text-align: right;
  font-variant-numeric: tabular-nums;
}
.stage {
  display: inline-block;
  height: 8px;
  border-radius: 2px;
  background: var(--accent);
}
.stage.failed {
  background: var(--bad);
}
</style>
