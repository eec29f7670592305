<script setup lang="ts">
import { ElInput, ElProgress } from 'element-plus'
import { computed, onMounted } from 'vue'
import * as api from '../api'
import ErrorNote from '../parts/ErrorNote.vue'
import NodesPanel from '../parts/NodesPanel.vue'
import SafekeepingPanel from '../parts/SafekeepingPanel.vue'
import ListFrame from '../parts/ListFrame.vue'
import { ago, dateOnly } from '../use/format'
import { useFilter } from '../use/filter'
import { useLive } from '../use/live'
import { useResource } from '../use/resource'
import { useSession } from '../use/session'

const { service, may } = useSession()
const { filter, among } = useFilter()
const { filter: doorFilter, among: amongTurned } = useFilter()
const journal = useResource(() => api.journalState())
const limits = useResource(() => api.limits())
const turned = useResource(() => api.turnedAway())
function loadAll() {
  void journal.load()
  void limits.load()
  void turned.load()
}
onMounted(loadAll)
useLive({ topics: () => loadAll(), back: loadAll })
const shown = computed(() => among(limits.data.value, (l) => [l.what]))
const shownTurned = computed(() => amongTurned(turned.data.value, (t) => [t.cause, t.from, t.client, t.agent, t.server]))
const part = (l: api.Limit) => (l.limit ? Math.min(100, Math.round((l.now / l.limit) * 100)) : 0)
const tone = (l: api.Limit) => (part(l) >= 90 ? 'exception' : part(l) >= 70 ? 'warning' : undefined)
const size = (bytes: number) => `${(bytes / (1 << 20)).toFixed(1)} MiB`
const amount = (l: api.Limit, n: number) => (l.what.startsWith('bytes') ? size(n) : n.toLocaleString('en'))
const filled = computed(() => {
  const j = journal.data.value
  return j?.keepBytes ? Math.min(100, Math.round((j.bytes / j.keepBytes) * 100)) : 0
})
</script>

<template>
  <div class="pagehead">
    <h1>Service</h1>
    <span class="soft">Version {{ service?.version.split('+')[0] }}, reached at {{ service?.address }}</span>
  </div>
  <ErrorNote v-if="journal.error.value" :error="journal.error.value" :retry="loadAll" />
  <section v-if="journal.data.value" class="sheet pad journal">
    <h2>Journal</h2>
    <p :class="journal.data.value.recording ? 'good' : 'bad'">
      {{ journal.data.value.recording ? '● Calls are recorded' : `◆ Calls are not recorded: ${journal.data.value.why}` }}
      <template v-if="journal.data.value.since"> since {{ dateOnly(journal.data.value.since) }}</template>
    </p>
    <dl>
      <dt>Mode</dt>
      <dd>
        {{
          journal.data.value.mode === 'strict'
            ? 'strict: no answer before its record is committed, and no call that cannot be recorded'
            : 'normal: answers never wait for the disk'
        }}
      </dd>
      <dt>Retention</dt>
      <dd>{{ journal.data.value.keepDays ? `for ${journal.data.value.keepDays} days` : 'without an end' }}</dd>
      <dt>Size</dt>
      <dd>
        <ElProgress
          v-if="journal.data.value.keepBytes"
          aria-label="Room of the journal in use"
          :percentage="filled"
          :stroke-width="8"
          :format="() => `${size(journal.data.value!.bytes)} of ${size(journal.data.value!.keepBytes)}`"
        />
        <template v-else>{{ size(journal.data.value.bytes) }}</template>
      </dd>
      <dt>Lost</dt>
      <dd :class="{ bad: journal.data.value.lost }">{{ journal.data.value.lost }} calls since the start</dd>
    </dl>
  </section>
  <NodesPanel />
  <SafekeepingPanel v-if="may('locker.keep')" />
  <div class="pagehead sub gap">
    <h2>Limits</h2>
    <ElInput v-model="filter" class="filter" size="small" placeholder="Filter limits" clearable aria-label="Filter limits" />
    <span class="soft">Nothing that is started or kept for somebody grows without a bound; others keep working at the bound.</span>
  </div>
  <ListFrame
    :loading="limits.loading.value"
    :error="limits.error.value"
    :total="limits.data.value?.length"
    :shown="shown.length"
    :retry="loadAll"
  >
    <template #empty>Nothing is bounded yet.</template>
    <table class="list">
      <colgroup>
        <col />
        <col style="width: 26%" />
        <col style="width: 11%" />
        <col style="width: 11%" />
        <col style="width: 11%" />
        <col style="width: 10%" />
      </colgroup>
      <thead>
        <tr>
          <th>What</th>
          <th>In use</th>
          <th class="num">Peak</th>
          <th class="num">Per person</th>
          <th class="num">Per agent</th>
          <th class="num">Refused</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="l in shown" :key="l.what">
          <td>{{ l.what }}</td>
          <td>
            <ElProgress
              :percentage="part(l)"
              :status="tone(l)"
              :stroke-width="8"
              :format="() => `${amount(l, l.now)} of ${amount(l, l.limit)}`"
              :aria-label="`${l.what} in use`"
            />
          </td>
          <td class="num">{{ amount(l, l.most) }}</td>
          <td class="num soft">{{ l.perPerson ? amount(l, l.perPerson) : '–' }}</td>
          <td class="num soft">{{ l.perAgent ? amount(l, l.perAgent) : '–' }}</td>
          <td class="num" :class="{ warn: l.refused }">{{ l.refused }}</td>
        </tr>
      </tbody>
    </table>
  </ListFrame>
  <div class="pagehead sub gap door">
    <h2>Refused without a valid pass</h2>
    <ElInput v-model="doorFilter" class="filter" size="small" placeholder="Filter" clearable aria-label="Filter who was refused" />
    <span class="soft">Since the service started, latest first.</span>
  </div>
  <ListFrame
    :loading="turned.loading.value"
    :error="turned.error.value"
    :total="turned.data.value?.length"
    :shown="shownTurned.length"
    :retry="loadAll"
  >
    <template #empty>Nobody was refused. Clients with a missing, mistyped, expired or revoked pass appear here.</template>
    <table class="list">
      <colgroup>
        <col style="width: 17%" />
        <col style="width: 9%" />
        <col style="width: 15%" />
        <col style="width: 14%" />
        <col />
        <col style="width: 17%" />
      </colgroup>
      <thead>
        <tr>
          <th>Reason</th>
          <th class="num">Times</th>
          <th>Last</th>
          <th>Address</th>
          <th>Client</th>
          <th>Agent or server</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="t in shownTurned" :key="t.cause + t.from + t.client + t.agent + t.server">
          <td>{{ t.cause }}</td>
          <td class="num">{{ t.times }}</td>
          <td class="soft">{{ ago(t.last) }}</td>
          <td class="mono">{{ t.from }}</td>
          <td>{{ t.client || '–' }}</td>
          <td>{{ t.agent || t.server || '–' }}</td>
        </tr>
      </tbody>
    </table>
  </ListFrame>
</template>

<style scoped>
.door {
  margin-top: 18px;
}
.journal {
  margin-bottom: 18px;
}
.journal p {
  margin: 0 0 8px;
}
dl {
  display: grid;
  grid-template-columns: 70px minmax(0, 460px);
  gap: 4px 12px;
  margin: 0;
}
dt {
  color: var(--ink-soft);
}
dd {
  margin: 0;
}
.filter {
  width: 220px;
}
h2 {
  margin: 0;
}
.journal h2 {
  margin-bottom: 8px;
}
:deep(.el-progress) {
  min-height: 20px;
}
:deep(.el-progress__text) {
  min-width: 118px;
  font-size: 12px !important;
}
</style>
