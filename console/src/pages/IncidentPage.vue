<script setup lang="ts">
import { ElButton, ElInput } from 'element-plus'
import { computed, onMounted, ref, watch } from 'vue'
import * as api from '../api'
import ErrorNote from '../parts/ErrorNote.vue'
import { fullMoment } from '../use/format'
import { useLive } from '../use/live'
import { useAction, useResource } from '../use/resource'
import { useSession } from '../use/session'

/** One incident: what is wrong, whom it affects, and what changed before it. */
const props = defineProps<{ id: string }>()
const { may } = useSession()
const incident = useResource(() => api.incident(props.id))
const load = () => void incident.load()
onMounted(load)
watch(() => props.id, load)
useLive({ topics: (t) => t === 'incidents' && load(), back: load })
const i = computed(() => incident.data.value)
const note = ref('')
const noting = useAction()
async function add() {
  if (await noting.run(() => api.noteIncident(props.id, note.value))) {
    note.value = ''
    load()
  }
}
</script>

<template>
  <div class="pagehead">
    <h1>
      <RouterLink to="/health" class="soft">Health</RouterLink> / {{ i?.server }} <span class="mono cause">{{ i?.cause }}</span>
    </h1>
    <span v-if="i" :class="i.until ? 'good' : 'bad'">{{ i.until ? 'over' : 'lasts' }}</span>
  </div>
  <ErrorNote v-if="incident.error.value" :error="incident.error.value" :retry="load" />
  <template v-if="i">
    <div class="finding" role="status">
      <strong>{{ i.title }}</strong>
      <div>Fix: {{ i.remedy }}</div>
      <div class="soft">Who can fix it: {{ i.who }}</div>
    </div>
    <div class="cards">
      <section class="sheet pad">
        <h2>When, and whom</h2>
        <dl class="facts">
          <dt>since</dt>
          <dd>{{ fullMoment(i.since) }}</dd>
          <template v-if="i.until"
            ><dt>until</dt>
            <dd>{{ fullMoment(i.until) }}</dd></template
          >
          <template v-if="i.reopened"
            ><dt>came back</dt>
            <dd>{{ i.reopened }} times since {{ fullMoment(i.first) }}</dd></template
          >
          <dt>seen well</dt>
          <dd>{{ i.lastGood ? `until ${fullMoment(i.lastGood)}` : 'never' }}</dd>
          <dt>calls</dt>
          <dd>
            <RouterLink :to="`/journal?server=${i.server}`">{{ i.calls }} failed</RouterLink>
          </dd>
          <dt>agents</dt>
          <dd>{{ i.agents.join(', ') || 'none' }}</dd>
          <dt>people</dt>
          <dd>{{ i.people.join(', ') || 'none' }}</dd>
          <dt>server</dt>
          <dd>
            <RouterLink :to="`/servers/${i.server}`">{{ i.server }}</RouterLink>
          </dd>
        </dl>
      </section>
      <section class="sheet pad">
        <h2>What was seen</h2>
        <ul class="seen">
          <li v-for="e in i.evidence" :key="e">{{ e }}</li>
        </ul>
        <p v-if="!i.evidence.length" class="soft">Nothing besides the symptom.</p>
      </section>
    </div>
    <section class="sheet pad gap">
      <h2>What changed before it, the most suspicious first</h2>
      <table v-if="i.changed.length" class="list">
        <thead>
          <tr>
            <th>When</th>
            <th>What</th>
            <th>Who</th>
            <th>Why it is suspected</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="c in i.changed" :key="c.at + c.what">
            <td>{{ fullMoment(c.at) }}</td>
            <td>{{ c.what }}</td>
            <td>{{ c.who || '–' }}</td>
            <td>{{ c.why }}</td>
          </tr>
        </tbody>
      </table>
      <p v-else class="soft">Nothing is known to have changed. What lies outside of Bouncer is not seen.</p>
    </section>
    <section class="sheet pad gap">
      <h2>Notes</h2>
      <p v-for="n in i.notes" :key="n.at" class="one">
        {{ n.text }} <span class="soft">{{ n.person }}, {{ fullMoment(n.at) }}</span>
      </p>
      <p v-if="!i.notes.length" class="soft">Nobody noted anything yet.</p>
      <form v-if="may('servers.keep')" class="noting" @submit.prevent="add">
        <ElInput v-model="note" placeholder="What you know or did" aria-label="Note" maxlength="2000" />
        <ElButton native-type="submit" :loading="noting.busy.value" :disabled="!note.trim()">Note</ElButton>
      </form>
      <ErrorNote v-if="noting.failure.value" :error="noting.failure.value" />
    </section>
  </template>
</template>

<style scoped>
.cause {
  font-size: 15px;
}
.cards {
  display: grid;
  grid-template-columns: 1fr 1.2fr;
  gap: 14px;
}
.gap {
  margin-top: 14px;
}
.seen {
  margin: 0;
  padding-left: 18px;
  overflow-wrap: anywhere;
}
.one {
  margin: 4px 0;
}
.noting {
  display: flex;
  gap: 8px;
  margin-top: 8px;
}
</style>
