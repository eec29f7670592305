<script setup lang="ts">
import { ElButton, ElCheckbox, ElDialog, ElForm, ElFormItem, ElInput, ElOption, ElRadioButton, ElRadioGroup, ElSelect } from 'element-plus'
import { computed, reactive, ref, shallowRef } from 'vue'
import * as api from '../api'
import { aboutField, useAction } from '../use/resource'
import { FieldProblem, formOf, said, termsOf } from '../use/ruleform'
import ErrorNote from './ErrorNote.vue'
import RehearsedNote from './RehearsedNote.vue'

/** Adds a rule, filled in beforehand where the page knows what it is about, or alters one. */
const props = defineProps<{ preset?: Partial<api.Rule>; rule?: api.Rule }>()
const emit = defineEmits<{ close: []; done: [rule: api.Rule] }>()
const from = props.rule ?? props.preset
const form = reactive({
  effect: from?.effect ?? ('admit' as api.Rule['effect']),
  agent: from?.agent ?? '',
  server: from?.server ?? '',
  tool: from?.tool ?? '',
  note: props.rule?.note ?? '',
  name: props.rule?.name ?? '',
})
const terms = reactive(formOf(props.rule))
const anyway = ref(false)
const rehearsed = shallowRef<api.Rehearsed>()
const tried = ref('')
const unread = shallowRef<FieldProblem>()
const { busy, failure, run } = useAction()
const open = computed({ get: () => true, set: () => emit('close') })
const fields = ['agent', 'server', 'tool', 'note', 'name', ...Object.keys(terms), 'holdSeconds']
const fieldError = (name: string) => {
  if (unread.value?.field === name) return unread.value.message
  return failure.value?.field === name ? [aboutField(failure.value), failure.value.hint].filter(Boolean).join('. ') : ''
}
const general = computed(() => failure.value && !fields.includes(failure.value.field))
// The service refuses what matches nothing, since a name is misspelt nearly always.
const nothing = computed(() => failure.value?.status === 409 && failure.value.field !== 'version' && failure.value.field !== 'name')
const verbs = { admit: 'Admits', hold: 'Holds', refuse: 'Refuses' }
const reads = computed(() => {
  const whose = [terms.label && `labelled ${terms.label}`, terms.person && `of ${terms.person}`, terms.group && `of group ${terms.group}`]
  const whom = [form.agent || '*', ...whose.filter(Boolean)].join(' ')
  return `${verbs[form.effect]} ${form.tool || '*'} on ${form.server || '*'} for ${whom}`
})
const whom = ['label', 'person', 'role', 'group'] as const
const what = ['serverLabel', 'hint', 'tag', 'bundle'] as const
const when = ['when', 'window', 'client', 'revision', 'network', 'presence', 'begins', 'ends'] as const
const shape = ['narrow', 'pins', 'title', 'description', 'hide', 'mask', 'resultKiB'] as const
const count = (names: readonly (keyof typeof terms)[]) => said(terms, [...names])
const hints = ['read-only', 'destructive', 'idempotent', 'open-world'].flatMap((h) => [h, `not-${h}`])

/** whole fills in globs that were left out where something else says which are meant. */
function whole() {
  return {
    ...form,
    agent: form.agent || (count(whom) ? '*' : ''),
    server: form.server || (count(what) || form.tool.includes('__') ? '*' : ''),
    tool: form.tool || (count(['hint', 'tag', 'bundle']) ? '*' : ''),
  }
}

async function submit() {
  const before = props.rule
  unread.value = undefined
  let said: api.RuleTerms
  try {
    said = termsOf(terms)
  } catch (err) {
    unread.value = err as FieldProblem
    return
  }
  // What takes something away is shown first: what agents did in the last days, and what they can do now.
  const change: api.Rehearsal = before
    ? { update: [{ rule: before.id, ...whole(), terms: said }] }
    : { add: [{ ...whole(), ...said, anyway: true }] }
  const text = JSON.stringify(change)
  if (tried.value !== text) {
    const result = await run(() => api.rehearse(change))
    if (!result) return
    rehearsed.value = result
    tried.value = text
    if (result.takes) return
  }
  const rule = await run(() =>
    before
      ? api.updateRule(before.id, { ...whole(), terms: said, anyway: anyway.value, version: before.version })
      : api.addRule({ ...whole(), ...said, anyway: anyway.value }),
  )
  if (rule) emit('done', rule)
}
const asks = computed(() => Boolean(rehearsed.value?.takes))
</script>

<template>
  <ElDialog v-model="open" :title="rule ? `Change ${rule.name}` : 'Add a rule'" width="620px" append-to-body>
    <ErrorNote v-if="failure && general" :error="failure" />
    <ElForm label-position="top" @submit.prevent="submit">
      <ElFormItem label="Effect">
        <ElRadioGroup v-model="form.effect">
          <ElRadioButton value="admit">admit</ElRadioButton>
          <ElRadioButton value="hold">hold</ElRadioButton>
          <ElRadioButton value="refuse">refuse</ElRadioButton>
        </ElRadioGroup>
        <ElCheckbox v-model="terms.disabled" class="off">disabled: keep it, but decide nothing</ElCheckbox>
      </ElFormItem>
      <div class="three">
        <ElFormItem label="Agents" :error="fieldError('agent')"
          ><ElInput v-model="form.agent" name="agent" placeholder="marit-quill, *-quill, *"
        /></ElFormItem>
        <ElFormItem label="Servers" :error="fieldError('server')"
          ><ElInput v-model="form.server" name="server" placeholder="sailings, *"
        /></ElFormItem>
        <ElFormItem label="Tools" :error="fieldError('tool')"
          ><ElInput v-model="form.tool" name="tool" placeholder="find_*, *"
        /></ElFormItem>
      </div>
      <details :open="count(whom) > 0">
        <summary>Whom it binds: labels, people, groups{{ count(whom) ? ` (${count(whom)})` : '' }}</summary>
        <div class="two">
          <ElFormItem label="Agents labelled" :error="fieldError('label')"
            ><ElInput v-model="terms.label" name="label" placeholder="laptop"
          /></ElFormItem>
          <ElFormItem label="Agents of a person" :error="fieldError('person')"
            ><ElInput v-model="terms.person" name="person" placeholder="joss"
          /></ElFormItem>
          <ElFormItem label="Agents of people in the group" :error="fieldError('group')"
            ><ElInput v-model="terms.group" name="group" placeholder="dispatch"
          /></ElFormItem>
          <ElFormItem label="Agents of people with the role" :error="fieldError('role')">
            <ElSelect v-model="terms.role" clearable placeholder="any" aria-label="Role">
              <ElOption v-for="r in ['admin', 'maintainer', 'member', 'auditor']" :key="r" :value="r" :label="r" />
            </ElSelect>
          </ElFormItem>
        </div>
      </details>
      <details :open="count(what) > 0">
        <summary>Which tools: kinds, tags, bundles{{ count(what) ? ` (${count(what)})` : '' }}</summary>
        <div class="two">
          <ElFormItem label="Tools that are" :error="fieldError('hint')">
            <ElSelect v-model="terms.hint" clearable placeholder="anything" aria-label="Kind of tool">
              <ElOption v-for="h in hints" :key="h" :value="h" :label="h" />
            </ElSelect>
          </ElFormItem>
          <ElFormItem label="Tools tagged" :error="fieldError('tag')"
            ><ElInput v-model="terms.tag" name="tag" placeholder="spends-money"
          /></ElFormItem>
          <ElFormItem label="Tools of the bundle" :error="fieldError('bundle')"
            ><ElInput v-model="terms.bundle" name="bundle"
          /></ElFormItem>
          <ElFormItem label="Servers labelled" :error="fieldError('serverLabel')"
            ><ElInput v-model="terms.serverLabel" name="serverLabel" placeholder="money"
          /></ElFormItem>
        </div>
      </details>
      <details :open="count(when) > 0">
        <summary>Conditions: arguments, times, circumstances{{ count(when) ? ` (${count(when)})` : '' }}</summary>
        <ElFormItem label="When the arguments fit this JSON Schema" :error="fieldError('when')">
          <ElInput
            v-model="terms.when"
            type="textarea"
            :autosize="{ minRows: 2, maxRows: 10 }"
            class="mono"
            name="when"
            spellcheck="false"
            placeholder='{"properties": {"litres": {"minimum": 5000}}}'
          />
        </ElFormItem>
        <div class="two">
          <ElFormItem label="Times" :error="fieldError('window')"
            ><ElInput v-model="terms.window" name="window" placeholder="mon-fri 22:00-06:00 Europe/Oslo"
          /></ElFormItem>
          <ElFormItem label="The agent's person is" :error="fieldError('presence')">
            <ElSelect v-model="terms.presence" clearable placeholder="there or not" aria-label="Presence">
              <ElOption value="present" label="there" /><ElOption value="unattended" label="away" />
            </ElSelect>
          </ElFormItem>
          <ElFormItem label="Begins" :error="fieldError('begins')"
            ><ElInput v-model="terms.begins" type="datetime-local" name="begins"
          /></ElFormItem>
          <ElFormItem label="Ends by itself" :error="fieldError('ends')"
            ><ElInput v-model="terms.ends" type="datetime-local" name="ends"
          /></ElFormItem>
          <ElFormItem label="Program calls itself" :error="fieldError('client')"
            ><ElInput v-model="terms.client" name="client" placeholder="quill*"
          /></ElFormItem>
          <ElFormItem label="Revision of the protocol" :error="fieldError('revision')"
            ><ElInput v-model="terms.revision" name="revision" placeholder="2026-*"
          /></ElFormItem>
          <ElFormItem label="Request comes from" :error="fieldError('network')"
            ><ElInput v-model="terms.network" name="network" placeholder="10.20.0.0/16"
          /></ElFormItem>
        </div>
      </details>
      <details v-if="form.effect !== 'refuse'" :open="count(shape) > 0">
        <summary>What a call may say, and what comes back{{ count(shape) ? ` (${count(shape)})` : '' }}</summary>
        <ElFormItem label="Arguments are narrowed to this JSON Schema, which the agent is shown" :error="fieldError('narrow')">
          <ElInput
            v-model="terms.narrow"
            type="textarea"
            :autosize="{ minRows: 3, maxRows: 12 }"
            class="mono"
            name="narrow"
            spellcheck="false"
            placeholder='{"properties": {"litres": {"maximum": 5000}, "port": {"enum": ["Skerrow"]}}}'
          />
        </ElFormItem>
        <ElFormItem label="Arguments that Bouncer fills in, one on a line" :error="fieldError('pins')">
          <ElInput
            v-model="terms.pins"
            type="textarea"
            :autosize="{ minRows: 2, maxRows: 10 }"
            class="mono"
            name="pins"
            spellcheck="false"
            placeholder="requested_by = ${fullName}"
          />
        </ElFormItem>
        <div class="two">
          <ElFormItem label="Fields taken out of results, one on a line" :error="fieldError('hide')">
            <ElInput
              v-model="terms.hide"
              type="textarea"
              :autosize="{ minRows: 2, maxRows: 10 }"
              class="mono"
              name="hide"
              placeholder="items.*.address"
            />
          </ElFormItem>
          <ElFormItem label="Fields of results whose text becomes stars" :error="fieldError('mask')">
            <ElInput
              v-model="terms.mask"
              type="textarea"
              :autosize="{ minRows: 2, maxRows: 10 }"
              class="mono"
              name="mask"
              placeholder="items.*.address"
            />
          </ElFormItem>
          <ElFormItem label="Results are cut to (KiB)" :error="fieldError('resultKiB')"
            ><ElInput v-model="terms.resultKiB" name="resultKiB"
          /></ElFormItem>
          <ElFormItem label="Title shown instead" :error="fieldError('title')"><ElInput v-model="terms.title" name="title" /></ElFormItem>
          <ElFormItem label="Description shown instead" :error="fieldError('description')"
            ><ElInput v-model="terms.description" name="description"
          /></ElFormItem>
        </div>
      </details>
      <div v-if="form.effect === 'hold'" class="two">
        <ElFormItem label="Decided by (admins and maintainers if empty)" :error="fieldError('deciders')"
          ><ElInput v-model="terms.deciders" name="deciders" placeholder="group:dispatch, person:joss"
        /></ElFormItem>
        <ElFormItem label="Waits at most (minutes)" :error="fieldError('holdSeconds')"
          ><ElInput v-model="terms.holdMinutes" name="holdMinutes" placeholder="5"
        /></ElFormItem>
        <ElCheckbox v-model="terms.ownDecides">The agent's own person may decide too</ElCheckbox>
        <ElCheckbox v-model="terms.asksUser">Ask the agent's own user instead, where the assistant can ask</ElCheckbox>
      </div>
      <div class="two">
        <ElFormItem label="Reason (shown to agents)" :error="fieldError('note')"
          ><ElInput v-model="form.note" name="note" placeholder="a sentence, if it helps"
        /></ElFormItem>
        <ElFormItem label="Name" :error="fieldError('name')"
          ><ElInput v-model="form.name" name="name" :placeholder="rule ? '' : 'made of what the rule says'"
        /></ElFormItem>
        <ElFormItem label="Place in the list (for reading only)" :error="fieldError('order')"
          ><ElInput v-model="terms.order" name="order" placeholder="last"
        /></ElFormItem>
      </div>
      <ElCheckbox v-if="nothing || anyway" v-model="anyway">Save it although it matches nothing yet</ElCheckbox>
      <p class="soft">
        {{ reads }}. <code>*</code> is any run of characters, <code>?</code> is one. A refusal wins over a hold, and a hold over an
        admission.
      </p>
      <RehearsedNote v-if="rehearsed?.takes" :result="rehearsed" />
      <div class="actions">
        <ElButton @click="open = false">Cancel</ElButton>
        <ElButton type="primary" native-type="submit" :loading="busy">{{
          asks ? 'Save it nevertheless' : rule ? 'Save' : 'Add rule'
        }}</ElButton>
      </div>
    </ElForm>
  </ElDialog>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 0 14px;
}
.three {
  display: grid;
  grid-template-columns: 1fr 1fr 1fr;
  gap: 0 14px;
}
.off {
  margin-left: 18px;
}
details {
  margin-bottom: 12px;
}
summary {
  cursor: pointer;
  color: var(--accent);
  margin-bottom: 8px;
}
</style>
