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
import { useFilter } from '../use/filter'
import { useLive } from '../use/live'
import { useResource } from '../use/resource'
import { useSession } from '../use/session'

const { may } = useSession()
const { filter, among } = useFilter(String(useRoute().query.rule ?? ''))
const adding = ref(false)
const changing = ref<api.Rule>()
const { data, error, loading, load } = useResource(() => api.rules())
onMounted(load)
useLive({ topics: (t) => ['rules', 'servers', 'agents'].includes(t) && load(), back: load })
const shown = computed(() => among(data.value, (r) => [r.name, r.effect, r.agent, r.server, r.tool, r.note, r.by, r.id]))
async function remove(r: api.Rule) {
  const what =
    r.effect === 'admit'
      ? 'What only this rule admits is refused from the next call on.'
      : 'What only this rule refuses may be admitted from the next call on.'
  if (
    (await confirmed(`Remove ${r.name}?`, `${r.effect} ${r.tool} on ${r.server} for ${r.agent}. ${what}`, 'Remove')) &&
    (await attempt(() => api.removeRule(r.id)))
  )
    void load()
}
function added() {
  adding.value = false
  changing.value = undefined
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
        <col />
        <col style="width: 92px" />
        <col style="width: 11%" />
        <col style="width: 9%" />
        <col style="width: 13.5%" />
        <col style="width: 17%" />
        <col class="spare" style="width: 76px" />
        <col v-if="may('rules.keep')" style="width: 152px" />
      </colgroup>
      <thead>
        <tr>
          <th>Rule</th>
          <th>Effect</th>
          <th>Agents</th>
          <th>Servers</th>
          <th>Tools</th>
          <th>Matches now</th>
          <th class="spare">By</th>
          <th v-if="may('rules.keep')"></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in shown" :key="r.id">
          <td :title="r.id">
            {{ r.name }}
            <div v-if="r.note" class="soft">{{ r.note }}</div>
          </td>
          <td><StateMark :state="r.effect" /></td>
          <td class="mono">{{ r.agent }}</td>
          <td class="mono">{{ r.server }}</td>
          <td class="mono">{{ r.tool }}</td>
          <td :class="{ warn: r.matches.nothing }">{{ r.matches.text }}</td>
          <td class="spare" :title="dateOnly(r.created)">{{ r.by }}</td>
          <td v-if="may('rules.keep')">
            <button class="plain" type="button" @click="changing = r">Change</button> ·
            <button class="plain" type="button" @click="remove(r)">Remove</button>
          </td>
        </tr>
      </tbody>
    </table>
  </ListFrame>
  <RuleDialog v-if="adding" @close="adding = false" @done="added" />
  <RuleDialog v-if="changing" :rule="changing" @close="changing = undefined" @done="added" />
</template>

<style scoped>
.filter {
  width: 240px;
}
</style>
