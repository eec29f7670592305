<script setup lang="ts">
import { ElButton, ElInput } from 'element-plus'
import { computed, onMounted, ref } from 'vue'
import { useRoute } from 'vue-router'
import * as api from '../api'
import ListFrame from '../parts/ListFrame.vue'
import RuleDialog from '../parts/RuleDialog.vue'
import StateMark from '../parts/StateMark.vue'
import { attempt, confirmed } from '../use/confirm'
import { dateOnly } from '../use/format'
import { useLive } from '../use/live'
import { useResource } from '../use/resource'
import { useSession } from '../use/session'

const { may } = useSession()
const filter = ref(String(useRoute().query.rule ?? ''))
const adding = ref(false)
const { data, error, loading, load } = useResource(() => api.rules())
onMounted(load)
useLive({ topics: (t) => t === 'rules' && load(), back: load })
const shown = computed(() => {
  const f = filter.value.trim().toLowerCase()
  return (data.value ?? []).filter(
    (r) => !f || [r.effect, r.agent, r.server, r.tool, r.note, r.by, r.id].some((v) => v.toLowerCase().includes(f)),
  )
})
async function remove(r: api.Rule) {
  const what =
    r.effect === 'admit'
      ? 'What only this rule admits is refused from the next call on.'
      : 'What only this rule refuses may be admitted from the next call on.'
  if (
    (await confirmed('Remove this rule?', `${r.effect} ${r.tool} on ${r.server} for ${r.agent}. ${what}`, 'Remove')) &&
    (await attempt(() => api.removeRule(r.id)))
  )
    void load()
}
function added() {
  adding.value = false
  void load()
}
</script>

<template>
  <div class="pagehead">
    <h1>Rules</h1>
    <ElInput v-model="filter" class="filter" placeholder="Filter rules" clearable aria-label="Filter rules" />
    <span class="soft">What no rule admits is refused; a refusal wins.</span>
    <div class="grow" />
    <ElButton v-if="may('rules.keep')" type="primary" @click="adding = true">Add a rule</ElButton>
  </div>
  <ListFrame :loading="loading" :error="error" :total="data?.length" :shown="shown.length" :retry="load">
    <template #empty>
      <p>There are no rules, so no agent can use any tool.</p>
      <p v-if="may('rules.keep')">
        <button class="plain" type="button" @click="adding = true">Add the first rule</button>, or admit single tools on an agent's page.
      </p>
    </template>
    <table class="list">
      <colgroup>
        <col style="width: 9%" />
        <col style="width: 14%" />
        <col style="width: 12%" />
        <col style="width: 14%" />
        <col />
        <col style="width: 8%" />
        <col style="width: 12%" />
        <col v-if="may('rules.keep')" style="width: 84px" />
      </colgroup>
      <thead>
        <tr>
          <th>Effect</th>
          <th>Agents</th>
          <th>Servers</th>
          <th>Tools</th>
          <th>Why</th>
          <th>By</th>
          <th>Since</th>
          <th v-if="may('rules.keep')"></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in shown" :key="r.id">
          <td><StateMark :state="r.effect" /></td>
          <td class="mono">{{ r.agent }}</td>
          <td class="mono">{{ r.server }}</td>
          <td class="mono">{{ r.tool }}</td>
          <td>
            {{ r.note || '–' }}
            <div class="mono soft id">{{ r.id }}</div>
          </td>
          <td>{{ r.by }}</td>
          <td class="soft">{{ dateOnly(r.created) }}</td>
          <td v-if="may('rules.keep')"><button class="plain" type="button" @click="remove(r)">Remove</button></td>
        </tr>
      </tbody>
    </table>
  </ListFrame>
  <RuleDialog v-if="adding" @close="adding = false" @done="added" />
</template>

<style scoped>
.filter {
  width: 240px;
}
.id {
  font-size: 11px;
}
</style>
