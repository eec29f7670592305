<script setup lang="ts">
import { ElButton, ElDialog, ElForm, ElFormItem, ElInput, ElOption, ElSelect, ElTag } from 'element-plus'
import { computed, onMounted, reactive, ref } from 'vue'
import * as api from '../api'
import ErrorNote from '../parts/ErrorNote.vue'
import ListFrame from '../parts/ListFrame.vue'
import { attempt, confirmed } from '../use/confirm'
import { useFilter } from '../use/filter'
import { useLive } from '../use/live'
import { useAction, useResource } from '../use/resource'
import { useSession } from '../use/session'

/** The words that rules go by: labels, groups, tags, and bundles of tools. */
const { may } = useSession()
const { filter, among } = useFilter()
const { data, error, loading, load } = useResource(() => api.labels())
const bundles = useResource(() => api.bundles())
function loadAll() {
  void load()
  void bundles.load()
}
onMounted(loadAll)
useLive({ topics: (t) => ['labels', 'bundles', 'rules', 'agents', 'servers', 'people'].includes(t) && loadAll(), back: loadAll })

interface Row {
  kind: api.Label['kind']
  name: string
  tool: string
  labels: api.Label[]
}
const rows = computed(() => {
  const by = new Map<string, Row>()
  for (const l of data.value ?? []) {
    const key = `${l.kind} ${l.name} ${l.tool ?? ''}`
    const row = by.get(key) ?? { kind: l.kind, name: l.name, tool: l.tool ?? '', labels: [] }
    row.labels.push(l)
    by.set(key, row)
  }
  return [...by.values()]
})
const shown = computed(() => among(rows.value, (r) => [r.kind, r.name, r.tool, ...r.labels.map((l) => l.label)]))
const shownBundles = computed(() => among(bundles.data.value, (b) => [b.name, b.note, ...b.tools, ...b.usedBy]))
const of = (r: { name: string; tool: string }) => (r.tool ? `${r.name}/${r.tool}` : r.name)

const adding = ref(false)
const form = reactive({ kind: 'agent' as api.Label['kind'], name: '', tool: '', label: '' })
const { busy, failure, run, fieldError } = useAction()
function add(r?: Row) {
  Object.assign(form, { kind: r?.kind ?? 'agent', name: r?.name ?? '', tool: r?.tool ?? '', label: '' })
  failure.value = undefined
  adding.value = true
}
async function submit() {
  const ok = await run(() =>
    api.alterLabels({
      kind: form.kind,
      name: form.name.trim(),
      tool: form.kind === 'tool' ? form.tool.trim() : undefined,
      add: form.label.split(/[\s,]+/).filter(Boolean),
    }),
  )
  if (ok) {
    adding.value = false
    loadAll()
  }
}
async function drop(r: Row, l: api.Label) {
  const text = `Rules for what is labelled ${l.label} no longer bind ${of(r)}, from the next call on.`
  if (
    (await confirmed(`Take ${l.label} from ${of(r)}?`, text, 'Take away')) &&
    (await attempt(() => api.alterLabels({ kind: r.kind, name: r.name, tool: r.tool || undefined, remove: [l.label] })))
  )
    loadAll()
}

const bundle = reactive({ open: false, name: '', note: '', entries: '', version: 0 })
const keep = useAction()
function edit(b?: api.Bundle) {
  keep.failure.value = undefined
  Object.assign(bundle, {
    open: true,
    name: b?.name ?? '',
    note: b?.note ?? '',
    version: b?.version ?? 0,
    entries: (b?.entries ?? []).map((e) => (e.bundle ? '@' + e.bundle : `${e.server}/${e.tool}`)).join('\n'),
  })
}
async function saveBundle() {
  const entries = bundle.entries
    .split('\n')
    .map((line) => line.trim())
    .filter(Boolean)
    .map((line) => {
      if (line.startsWith('@')) return { bundle: line.slice(1) }
      const at = line.indexOf('/')
      return at < 0 ? { server: line, tool: '*' } : { server: line.slice(0, at), tool: line.slice(at + 1) }
    })
  const ok = await keep.run(() =>
    bundle.version
      ? api.updateBundle(bundle.name, { note: bundle.note, entries, version: bundle.version })
      : api.addBundle({ name: bundle.name, note: bundle.note, entries }),
  )
  if (ok) {
    bundle.open = false
    loadAll()
  }
}
async function removeBundle(b: api.Bundle) {
  if ((await confirmed(`Remove bundle ${b.name}?`, 'No rule names it.', 'Remove')) && (await attempt(() => api.removeBundle(b.name))))
    loadAll()
}
</script>

<template>
  <div class="pagehead">
    <h1>Labels</h1>
    <ElInput v-model="filter" class="filter" placeholder="Filter labels and bundles" clearable aria-label="Filter labels and bundles" />
    <span class="soft">Rules go by them; nobody can give one to themselves.</span>
    <div class="grow" />
    <ElButton v-if="may('rules.keep')" type="primary" @click="add()">Give a label</ElButton>
  </div>
  <ListFrame :loading="loading" :error="error" :total="rows.length" :shown="shown.length" :retry="load">
    <template #empty>
      Nothing has a label yet. Give agents words like <em>laptop</em> or <em>unattended</em>, servers words like <em>money</em>, and make
      rules for those instead of for names.
    </template>
    <table class="list">
      <colgroup>
        <col style="width: 90px" />
        <col style="width: 32%" />
        <col />
        <col v-if="may('rules.keep')" style="width: 84px" />
      </colgroup>
      <thead>
        <tr>
          <th>Kind</th>
          <th>Name</th>
          <th>Labels, groups, tags</th>
          <th v-if="may('rules.keep')"></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in shown" :key="r.kind + of(r)">
          <td class="soft">{{ r.kind }}</td>
          <td class="mono">{{ of(r) }}</td>
          <td>
            <ElTag
              v-for="l in r.labels"
              :key="l.label + l.source"
              class="tag"
              type="info"
              :closable="may('rules.keep') && !l.source"
              :title="l.source ? 'the identity provider says so' : ''"
              @close="drop(r, l)"
              >{{ l.label }}{{ l.source ? ' ↩' : '' }}</ElTag
            >
          </td>
          <td v-if="may('rules.keep')">
            <button class="plain" type="button" :aria-label="`Give ${of(r)} a label`" @click="add(r)">Add</button>
          </td>
        </tr>
      </tbody>
    </table>
  </ListFrame>
  <div class="pagehead gap">
    <h2>Bundles</h2>
    <span class="soft">Tools that rules name as one.</span>
    <div class="grow" />
    <ElButton v-if="may('rules.keep')" size="small" @click="edit()">Make a bundle</ElButton>
  </div>
  <ListFrame
    :loading="bundles.loading.value"
    :error="bundles.error.value"
    :total="bundles.data.value?.length"
    :shown="shownBundles.length"
    :retry="loadAll"
  >
    <template #empty>No bundles yet. Make one of the tools that are always granted together.</template>
    <table class="list">
      <thead>
        <tr>
          <th style="width: 20%">Bundle</th>
          <th>Stands for now</th>
          <th style="width: 22%">Named by</th>
          <th v-if="may('rules.keep')" style="width: 152px"></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="b in shownBundles" :key="b.id">
          <td>
            {{ b.name }}
            <div v-if="b.note" class="soft">{{ b.note }}</div>
          </td>
          <td>
            {{ b.tools.length }} tools
            <span class="mono soft">{{ b.tools.slice(0, 6).join(', ') }}{{ b.tools.length > 6 ? ' …' : '' }}</span>
          </td>
          <td class="soft">{{ b.usedBy.join(', ') || 'nothing' }}</td>
          <td v-if="may('rules.keep')">
            <button class="plain" type="button" @click="edit(b)">Change</button>
            <template v-if="!b.usedBy.length"> · <button class="plain" type="button" @click="removeBundle(b)">Remove</button></template>
          </td>
        </tr>
      </tbody>
    </table>
  </ListFrame>
  <ElDialog v-model="adding" title="Give a label" width="440px" append-to-body>
    <ErrorNote v-if="failure && !['add', 'tool', 'kind'].includes(failure.field)" :error="failure" />
    <ElForm label-position="top" @submit.prevent="submit">
      <ElFormItem label="To">
        <ElSelect v-model="form.kind" aria-label="Kind">
          <ElOption value="agent" label="an agent" />
          <ElOption value="server" label="a server" />
          <ElOption value="person" label="a person (a group)" />
          <ElOption value="tool" label="a tool (a tag)" />
        </ElSelect>
      </ElFormItem>
      <ElFormItem :label="form.kind === 'tool' ? 'Server' : 'Name'"><ElInput v-model="form.name" name="name" /></ElFormItem>
      <ElFormItem v-if="form.kind === 'tool'" label="Tool" :error="fieldError('tool')"
        ><ElInput v-model="form.tool" name="tool"
      /></ElFormItem>
      <ElFormItem label="Label" :error="fieldError('add')"><ElInput v-model="form.label" name="label" placeholder="laptop" /></ElFormItem>
      <p v-if="form.kind === 'tool'" class="soft">
        <code>read-only</code>, <code>destructive</code>, <code>idempotent</code>, <code>open-world</code>, or one with <code>not-</code>
        before it, count instead of what the tool says of itself.
      </p>
      <div class="actions">
        <ElButton @click="adding = false">Cancel</ElButton>
        <ElButton type="primary" native-type="submit" :loading="busy">Give label</ElButton>
      </div>
    </ElForm>
  </ElDialog>
  <ElDialog v-model="bundle.open" :title="bundle.version ? `Change ${bundle.name}` : 'Make a bundle'" width="480px" append-to-body>
    <ErrorNote v-if="keep.failure.value && !['name', 'note', 'entries'].includes(keep.failure.value.field)" :error="keep.failure.value" />
    <ElForm label-position="top" @submit.prevent="saveBundle">
      <ElFormItem v-if="!bundle.version" label="Name" :error="keep.fieldError('name')"
        ><ElInput v-model="bundle.name" name="bundle" placeholder="looking"
      /></ElFormItem>
      <ElFormItem label="Tools, one on a line: server/tool with * and ?, or @bundle" :error="keep.fieldError('entries')">
        <ElInput v-model="bundle.entries" type="textarea" :rows="6" class="mono" name="entries" placeholder="sailings/find_*" />
      </ElFormItem>
      <ElFormItem label="Note" :error="keep.fieldError('note')"><ElInput v-model="bundle.note" name="note" /></ElFormItem>
      <div class="actions">
        <ElButton @click="bundle.open = false">Cancel</ElButton>
        <ElButton type="primary" native-type="submit" :loading="keep.busy.value">Save</ElButton>
      </div>
    </ElForm>
  </ElDialog>
</template>

<style scoped>
.filter {
  width: 240px;
}
.tag {
  margin-right: 6px;
  --el-tag-text-color: var(--ink);
}
.gap {
  margin-top: 22px;
  margin-bottom: 8px;
}
.gap h2 {
  margin: 0;
}
</style>
