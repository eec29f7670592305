<script setup lang="ts">
import { ElButton, ElInput, ElMessage } from 'element-plus'
import { computed, ref, watch } from 'vue'
import * as api from '../api'
import { fullMoment } from '../use/format'
import { useFilter } from '../use/filter'
import { useAction, useResource } from '../use/resource'
import ErrorNote from './ErrorNote.vue'

/** What went between Bouncer and a server or an agent: the flight recorder now, and the tapes that were kept. */
const props = defineProps<{ server?: string; agent?: string }>()
const of = computed<api.TapeOf>(() => (props.agent ? { agent: props.agent } : { server: props.server ?? '' }))
const open = ref(false)
const heard = useResource(() => api.heard(of.value))
const tapes = useResource(() => api.tapes(of.value))
const { filter, match } = useFilter()
function load() {
  if (!open.value) return
  void heard.load()
  void tapes.load()
}
watch([of, open], load)
const signs: Record<api.TapeEntry['kind'], string> = {
  sent: '→',
  received: '←',
  answer: '⇐',
  noise: '?',
  stderr: '!',
  state: '•',
  broke: '×',
}
const rows = computed(() => (heard.data.value ?? []).filter((e) => match(e.kind, e.method, e.text, String(e.status ?? ''))).slice(-100))
const said = (e: api.TapeEntry) =>
  e.kind === 'answer' ? `${e.method} ${e.status} after ${(e.tookMs ?? 0).toFixed(1)} ms` : `${e.text ?? ''}${cut(e)}`
const cut = (e: api.TapeEntry) => ((e.size ?? 0) > (e.text ?? '').length ? ` … ${e.size} bytes` : '')
const keeping = useAction()
const compared = ref<api.Replayed>()
async function keep() {
  const info = await keeping.run(() => api.keepTape(of.value, 'kept in the console'))
  if (info) {
    ElMessage.success(`${info.entries} entries are kept`)
    load()
  }
}
async function replay(id: string) {
  compared.value = await keeping.run(() => api.replayTape(id))
}
</script>

<template>
  <details class="sheet pad tape" @toggle="open = ($event.target as HTMLDetailsElement).open">
    <summary>What went over the wire</summary>
    <div class="bar">
      <ElInput v-model="filter" class="filter" placeholder="Filter by method, text, status" clearable aria-label="Filter what was heard" />
      <ElButton size="small" @click="load">Read again</ElButton>
      <ElButton size="small" :loading="keeping.busy.value" @click="keep">Keep as a tape</ElButton>
    </div>
    <ErrorNote v-if="heard.error.value" :error="heard.error.value" :retry="load" />
    <ErrorNote v-if="keeping.failure.value" :error="keeping.failure.value" />
    <p v-if="heard.data.value && !heard.data.value.length" class="soft">
      Nothing was heard since the service started.
      {{ agent ? 'Restart the assistant, or see below whether it has a pass that is valid.' : 'Look closely, or let an agent call it.' }}
    </p>
    <ol v-if="rows.length" class="heard">
      <li v-for="e in rows" :key="e.n" :class="e.kind" :title="fullMoment(e.at)">
        <span class="soft">{{ e.ms.toFixed(1) }}</span>
        <span :aria-label="e.kind">{{ signs[e.kind] }}</span>
        <span class="mono words">{{ said(e) }}</span>
      </li>
    </ol>
    <template v-if="tapes.data.value?.length">
      <h2>Tapes</h2>
      <ul class="kept">
        <li v-for="t in tapes.data.value" :key="t.id">
          {{ fullMoment(t.until) }} <span class="soft">{{ t.entries }} entries, {{ t.by }}: {{ t.reason || 'no reason given' }}</span>
          <ElButton size="small" @click="replay(t.id)">Replay</ElButton>
          <a :href="api.tapeAddress(t.id, 'jsonl')" download>JSON by lines</a>
          <a :href="api.tapeAddress(t.id, 'har')" download>HTTP archive</a>
        </li>
      </ul>
    </template>
    <div v-if="compared" role="status">
      <p>
        Replayed against {{ agent ? 'Bouncer' : 'the server' }} as it is now: {{ compared.same }} alike,
        {{ compared.differ.length }} otherwise, {{ compared.skipped }} not compared.
      </p>
      <div v-for="(d, i) in compared.differ" :key="i" class="finding">
        <strong class="mono">{{ d.method }}</strong>
        <div>
          then <span class="mono">{{ d.then }}</span>
        </div>
        <div>
          now <span class="mono">{{ d.now }}</span>
        </div>
        <div v-if="d.where?.length" class="soft">at {{ d.where.join(', ') }}</div>
      </div>
    </div>
  </details>
</template>

<style scoped>
.tape {
  margin-bottom: 18px;
}
.bar {
  display: flex;
  gap: 8px;
  align-items: center;
  margin: 10px 0;
}
.filter {
  flex: 0 0 260px;
}
.heard {
  max-height: 420px;
  margin: 0;
  padding: 0;
  overflow: auto;
  list-style: none;
  font-size: 12px;
}
.heard li {
  display: grid;
  grid-template-columns: 80px 16px minmax(0, 1fr);
  gap: 6px;
  padding: 1px 0;
}
.heard .words {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.heard .broke,
.heard .stderr,
.heard .noise {
  color: var(--warn);
}
.heard .state {
  font-weight: 600;
}
.kept {
  margin: 0;
  padding: 0;
  list-style: none;
}
.kept li {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
  padding: 3px 0;
}
</style>
