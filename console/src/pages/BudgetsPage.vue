<script setup lang="ts">
import { ElButton, ElCheckbox, ElDialog, ElForm, ElFormItem, ElInput, ElInputNumber, ElOption, ElSelect } from 'element-plus'
import { onMounted, onScopeDispose, computed, reactive } from 'vue'
import * as api from '../api'
import ErrorNote from '../parts/ErrorNote.vue'
import ListFrame from '../parts/ListFrame.vue'
import { attempt, confirmed } from '../use/confirm'
import { useFilter } from '../use/filter'
import { moment } from '../use/format'
import { useLive } from '../use/live'
import { useAction, useResource } from '../use/resource'
import { useSession } from '../use/session'

/** How much agents may call, and how much of it is used. */
const { may } = useSession()
const { filter, among } = useFilter()
const { data, error, loading, load } = useResource(() => api.budgets())
onMounted(load)
useLive({ topics: (t) => ['budgets', 'agents', 'labels'].includes(t) && void load(), back: load })
const again = window.setInterval(() => void load(), 5000)
onScopeDispose(() => window.clearInterval(again))
const shown = computed(() => among(data.value, (b) => [b.name, b.text, b.note, ...b.uses.map((u) => u.whose)]))

interface Bar {
  whose: string
  what: string
  used: number
  most: number
}
/** bars are what is used of a budget, by those who use most. */
function bars(b: api.Budget): Bar[] {
  return b.uses.slice(0, 5).flatMap((u) => {
    const out: Bar[] = []
    if (b.calls) out.push({ whose: u.whose, what: 'calls', used: u.calls, most: b.calls })
    if (b.kib) out.push({ whose: u.whose, what: 'KiB', used: u.kib, most: b.kib })
    if (b.atOnce) out.push({ whose: u.whose, what: 'at a time', used: u.atOnce, most: b.atOnce })
    return out
  })
}

const empty = { agent: '*', label: '', person: '', group: '', server: '*', tool: '*', per: 'agent' as api.Allowance['per'] }
const form = reactive({
  open: false,
  version: 0,
  name: '',
  note: '',
  window: 'minute' as NonNullable<api.Allowance['window']>,
  calls: undefined as number | undefined,
  kib: undefined as number | undefined,
  atOnce: undefined as number | undefined,
  waits: false,
  ...empty,
})
const { busy, failure, run, fieldError } = useAction()
function edit(b?: api.Budget) {
  failure.value = undefined
  Object.assign(form, empty, { open: true, version: b?.version ?? 0, name: '', note: '', window: 'minute', waits: false })
  Object.assign(form, { calls: b?.calls, kib: b?.kib, atOnce: b?.atOnce })
  if (!b) return
  for (const key of ['name', 'note', 'agent', 'server', 'tool', 'per'] as const) Object.assign(form, { [key]: b[key] })
  Object.assign(form, {
    label: b.label ?? '',
    person: b.person ?? '',
    group: b.group ?? '',
    waits: b.waits ?? false,
    window: b.window ?? 'minute',
  })
}
function allowance(): api.Allowance {
  const windowed = form.calls || form.kib
  return {
    agent: form.agent || '*',
    server: form.server || '*',
    tool: form.tool || '*',
    per: form.per,
    label: form.label || undefined,
    person: form.person || undefined,
    group: form.group || undefined,
    window: windowed ? form.window : undefined,
    calls: form.calls || undefined,
    kib: form.kib || undefined,
    atOnce: form.atOnce || undefined,
    waits: (form.atOnce && form.waits) || undefined,
  }
}
async function save() {
  const ok = await run(() =>
    form.version
      ? api.updateBudget(form.name, { note: form.note, allowance: allowance(), version: form.version })
      : api.addBudget({ name: form.name, note: form.note, ...allowance() }),
  )
  if (ok) {
    form.open = false
    void load()
  }
}
async function remove(b: api.Budget) {
  if (
    (await confirmed(`Remove ${b.name}?`, 'Agents may call without this limit from now on.', 'Remove')) &&
    (await attempt(() => api.removeBudget(b.name)))
  )
    void load()
}
async function reset(b: api.Budget) {
  if (
    (await confirmed(`Begin ${b.name} anew?`, 'What is used so far counts no more.', 'Begin anew')) &&
    (await attempt(() => api.resetBudget(b.name)))
  )
    void load()
}
const general = computed(
  () => failure.value && !['name', 'agent', 'server', 'tool', 'label', 'calls', 'window', 'note'].includes(failure.value.field),
)
</script>

<template>
  <div class="pagehead">
    <h1>Budgets</h1>
    <ElInput v-model="filter" class="filter" placeholder="Filter by name, agent, tool" clearable aria-label="Filter budgets" />
    <span class="soft">How much agents may call; windows are those of the calendar in UTC.</span>
    <div class="grow" />
    <ElButton v-if="may('rules.keep')" type="primary" @click="edit()">Add a budget</ElButton>
  </div>
  <ListFrame :loading="loading" :error="error" :total="data?.length" :shown="shown.length" :retry="load">
    <template #empty>
      There are no budgets, so agents may call as much as they like. Add one for agents that nobody watches, or for a server that is slow.
    </template>
    <table class="list">
      <colgroup>
        <col style="width: 20%" />
        <col style="width: 30%" />
        <col />
        <col v-if="may('rules.keep')" style="width: 112px" />
      </colgroup>
      <thead>
        <tr>
          <th>Budget</th>
          <th>Allows</th>
          <th>Used now</th>
          <th v-if="may('rules.keep')"></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="b in shown" :key="b.id">
          <td>
            <strong>{{ b.name }}</strong>
            <div v-if="b.note" class="soft">{{ b.note }}</div>
          </td>
          <td>
            {{ b.text }}
            <div class="soft">binds {{ b.agents === 1 ? '1 agent' : `${b.agents} agents` }}</div>
          </td>
          <td>
            <div v-for="u in bars(b)" :key="u.whose + u.what" class="use">
              <span class="who">{{ u.whose }}</span>
              <span
                class="bar"
                role="meter"
                :aria-label="`${u.what} of ${u.whose}`"
                aria-valuemin="0"
                :aria-valuenow="u.used"
                :aria-valuemax="u.most"
                ><span :class="{ full: u.used >= u.most }" :style="{ width: Math.min(100, (100 * u.used) / u.most) + '%' }"></span
              ></span>
              <span>{{ u.used }} of {{ u.most }} {{ u.what }}</span>
            </div>
            <span v-if="!b.uses.length" class="soft">nothing</span>
            <span v-if="b.until && b.uses.length" class="soft">anew at {{ moment(b.until) }}</span>
          </td>
          <td v-if="may('rules.keep')">
            <div><button class="plain" type="button" :aria-label="`Change ${b.name}`" @click="edit(b)">Change</button></div>
            <div><button class="plain" type="button" :aria-label="`Begin ${b.name} anew`" @click="reset(b)">Begin anew</button></div>
            <div><button class="plain" type="button" :aria-label="`Remove ${b.name}`" @click="remove(b)">Remove</button></div>
          </td>
        </tr>
      </tbody>
    </table>
  </ListFrame>
  <ElDialog v-model="form.open" :title="form.version ? `Change ${form.name}` : 'Add a budget'" width="560px" append-to-body>
    <ErrorNote v-if="failure && general" :error="failure" />
    <ElForm label-position="top" @submit.prevent="save">
      <ElFormItem v-if="!form.version" label="Name" :error="fieldError('name')"
        ><ElInput v-model="form.name" name="name" placeholder="voice-minute"
      /></ElFormItem>
      <div class="three">
        <ElFormItem label="Agents" :error="fieldError('agent')"><ElInput v-model="form.agent" name="agent" /></ElFormItem>
        <ElFormItem label="Servers" :error="fieldError('server')"><ElInput v-model="form.server" name="server" /></ElFormItem>
        <ElFormItem label="Tools" :error="fieldError('tool')"><ElInput v-model="form.tool" name="tool" /></ElFormItem>
        <ElFormItem label="Agents labelled" :error="fieldError('label')"><ElInput v-model="form.label" name="label" /></ElFormItem>
        <ElFormItem label="Agents of a person"><ElInput v-model="form.person" name="person" /></ElFormItem>
        <ElFormItem label="Agents of a group"><ElInput v-model="form.group" name="group" /></ElFormItem>
      </div>
      <div class="three">
        <ElFormItem label="Counts for">
          <ElSelect v-model="form.per" aria-label="Counts for">
            <ElOption value="agent" label="each agent" /><ElOption value="person" label="each person" /><ElOption
              value="all"
              label="all together"
            />
          </ElSelect>
        </ElFormItem>
        <ElFormItem label="In each" :error="fieldError('window')">
          <ElSelect v-model="form.window" aria-label="In each">
            <ElOption v-for="w in ['minute', 'hour', 'day', 'week', 'month']" :key="w" :value="w" :label="w" />
          </ElSelect>
        </ElFormItem>
        <ElFormItem label="Calls" :error="fieldError('calls')"
          ><ElInputNumber v-model="form.calls" :min="0" :controls="false" aria-label="Calls"
        /></ElFormItem>
        <ElFormItem label="KiB"><ElInputNumber v-model="form.kib" :min="0" :controls="false" aria-label="KiB" /></ElFormItem>
        <ElFormItem label="Calls at a time"
          ><ElInputNumber v-model="form.atOnce" :min="0" :controls="false" aria-label="Calls at a time"
        /></ElFormItem>
      </div>
      <ElCheckbox v-model="form.waits" :disabled="!form.atOnce">Others wait, agents in turn, instead of being refused</ElCheckbox>
      <ElFormItem label="Note" :error="fieldError('note')"><ElInput v-model="form.note" name="note" /></ElFormItem>
      <div class="actions">
        <ElButton @click="form.open = false">Cancel</ElButton>
        <ElButton type="primary" native-type="submit" :loading="busy">Save</ElButton>
      </div>
    </ElForm>
  </ElDialog>
</template>

<style scoped>
.filter {
  width: 240px;
}
.three {
  display: grid;
  grid-template-columns: 1fr 1fr 1fr;
  gap: 0 14px;
}
.use {
  display: grid;
  grid-template-columns: 110px minmax(60px, 1fr) 150px;
  gap: 10px;
  align-items: center;
}
.who {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.bar {
  height: 8px;
  border-radius: 4px;
  background: var(--line);
  overflow: hidden;
}
.bar span {
  display: block;
  height: 100%;
  background: var(--accent);
}
.bar .full {
  background: var(--warn);
}
</style>
