<script setup lang="ts">
import { ElButton, ElInput } from 'element-plus'
import { computed, onMounted, ref } from 'vue'
import { useRoute } from 'vue-router'
import * as api from '../api'
import ListFrame from '../parts/ListFrame.vue'
import RuleDialog from '../parts/RuleDialog.vue'
import StateMark from '../parts/StateMark.vue'
import { attempt, confirmed } from '../use/confirm'
import { dateOnly, fullMoment } from '../use/format'
import { useFilter } from '../use/filter'
import { useLive } from '../use/live'
import { useResource } from '../use/resource'
import { formOf, termsOf } from '../use/ruleform'
import { useSession } from '../use/session'

const { may } = useSession()
const { filter, among } = useFilter(String(useRoute().query.rule ?? ''))
const adding = ref(false)
const changing = ref<api.Rule>()
const { data, error, loading, load } = useResource(() => api.rules())
onMounted(load)
useLive({ topics: (t) => ['rules', 'servers', 'agents', 'labels'].includes(t) && load(), back: load })
const shown = computed(() =>
  among(data.value, (r) => [
    r.name,
    r.effect,
    r.agent,
    r.server,
    r.tool,
    r.note,
    r.by,
    r.id,
    whom(r),
    r.serverLabel,
    further(r),
    r.matches.off,
  ]),
)
/** words joins what is said of something, leaving out what is not. */
function words(...said: [string, unknown][]): string {
  return said
    .filter(([, value]) => value)
    .map(([word, value]) => (value === true ? word : `${word} ${String(value)}`.trim()))
    .join(' · ')
}
const whom = (r: api.Rule) => words(['labelled', r.label], ['of', r.person], ['role', r.role], ['group', r.group])
/** further is what a rule says of tools and calls besides its globs. */
function further(r: api.Rule): string {
  const out: string[] = []
  const add = (word: string, value: unknown) => out.push(words([word, value]))
  add('tools that are', r.hint)
  add('tagged', r.tag)
  add('bundle', r.bundle)
  add('only with some arguments', r.when !== undefined)
  add('', r.window)
  add('client', r.client)
  add('revision', r.revision)
  add('from', r.network)
  add('person', r.presence)
  add('from', r.begins && fullMoment(r.begins))
  add('until', r.ends && fullMoment(r.ends))
  add('narrowed', r.narrow !== undefined)
  add('fills in', r.pins && Object.keys(r.pins).join(', '))
  add('hides', r.hide?.join(', '))
  add('masks', r.mask?.join(', '))
  add('in other words', Boolean(r.title || r.description))
  add('at most', r.resultKiB && `${r.resultKiB} KiB`)
  add('decided by', r.deciders?.join(' or '))
  add("asks the agent's user", r.asksUser)
  return out.filter(Boolean).join(' · ')
}
/** wouldBe says what a change would make another decision; what cannot be found out is not in the way. */
async function wouldBe(change: api.Rehearsal): Promise<string> {
  const result = await api.rehearse(change).catch(() => undefined)
  return result ? `${result.text.charAt(0).toUpperCase()}${result.text.slice(1)}.` : ''
}
async function enable(r: api.Rule, disabled: boolean) {
  const whole = termsOf({ ...formOf(r), disabled })
  const text = await wouldBe({ update: [{ rule: r.id, terms: whole }] })
  if (!(await confirmed(`${disabled ? 'Disable' : 'Enable'} ${r.name}?`, text, disabled ? 'Disable' : 'Enable'))) return
  if (await attempt(() => api.updateRule(r.id, { terms: whole, version: r.version, anyway: true }))) void load()
}
async function remove(r: api.Rule) {
  const what =
    r.effect === 'admit'
      ? 'What only this rule admits is refused from the next call on.'
      : 'What only this rule stops may be admitted from the next call on.'
  const text = await wouldBe({ remove: [r.name] })
  if (
    (await confirmed(`Remove ${r.name}?`, `${r.effect} ${r.tool} on ${r.server} for ${r.agent}. ${what} ${text}`, 'Remove')) &&
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
    <span class="soft">What no rule admits is refused. A refusal wins over a hold, a hold over an admission.</span>
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
        <col style="width: 17%" />
        <col style="width: 16%" />
        <col class="spare" style="width: 82px" />
        <col v-if="may('rules.keep')" style="width: 92px" />
      </colgroup>
      <thead>
        <tr>
          <th>Rule</th>
          <th>Effect</th>
          <th>Agents</th>
          <th>Servers</th>
          <th>Tools</th>
          <th>Matches now</th>
          <th class="spare" title="calls of the last seven days that it decided">Decided</th>
          <th v-if="may('rules.keep')"></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in shown" :key="r.id">
          <td :title="`by ${r.by}, ${dateOnly(r.created)} (${r.id})`">
            <strong>{{ r.name }}</strong>
            <div v-if="r.note" class="soft">{{ r.note }}</div>
            <div v-for="w in r.warnings ?? []" :key="w" class="warn">{{ w }}</div>
          </td>
          <td><StateMark :state="r.effect" /></td>
          <td>
            <span class="mono">{{ r.agent }}</span>
            <div v-if="whom(r)" class="soft">{{ whom(r) }}</div>
          </td>
          <td>
            <span class="mono">{{ r.server }}</span>
            <div v-if="r.serverLabel" class="soft">labelled {{ r.serverLabel }}</div>
          </td>
          <td>
            <span class="mono">{{ r.tool }}</span>
            <div v-if="further(r)" class="soft">{{ further(r) }}</div>
          </td>
          <td v-if="r.matches.off" class="soft">not in force: {{ r.matches.off }}</td>
          <td v-else :class="{ warn: r.matches.nothing }">{{ r.matches.text }}</td>
          <td class="spare">
            <RouterLink v-if="r.decided" :to="{ path: '/journal', query: { rule: r.name } }">{{ r.decided }}</RouterLink><span
              v-else
              class="soft"
              >0</span
            >
          </td>
          <td v-if="may('rules.keep')">
            <div><button class="plain" type="button" :aria-label="`Change ${r.name}`" @click="changing = r">Change</button></div>
            <div><button class="plain" type="button" :aria-label="`Remove ${r.name}`" @click="remove(r)">Remove</button></div>
            <div>
              <button v-if="r.disabled" class="plain" type="button" :aria-label="`Enable ${r.name}`" @click="enable(r, false)">
                Enable
              </button>
              <button v-else class="plain" type="button" :aria-label="`Disable ${r.name}`" @click="enable(r, true)">Disable</button>
            </div>
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
strong {
  font-weight: 600;
  overflow-wrap: anywhere;
}
</style>
