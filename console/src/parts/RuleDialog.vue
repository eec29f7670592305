<script setup lang="ts">
import { ElButton, ElCheckbox, ElDialog, ElForm, ElFormItem, ElInput, ElRadioButton, ElRadioGroup } from 'element-plus'
import { computed, reactive, ref } from 'vue'
import * as api from '../api'
import { aboutField, useAction } from '../use/resource'
import ErrorNote from './ErrorNote.vue'

/** Adds a rule, filled in beforehand where the page knows what it is about, or alters one. */
const props = defineProps<{ preset?: Partial<api.Rule>; rule?: api.Rule }>()
const emit = defineEmits<{ close: []; done: [rule: api.Rule] }>()
const from = props.rule ?? props.preset
const form = reactive({
  effect: from?.effect ?? 'admit',
  agent: from?.agent ?? '',
  server: from?.server ?? '',
  tool: from?.tool ?? '',
  note: props.rule?.note ?? '',
  name: props.rule?.name ?? '',
})
const anyway = ref(false)
const { busy, failure, run } = useAction()
const open = computed({ get: () => true, set: () => emit('close') })
const fieldError = (name: string) =>
  failure.value?.field === name ? [aboutField(failure.value), failure.value.hint].filter(Boolean).join('. ') : ''
const general = computed(() => failure.value && !['agent', 'server', 'tool', 'note', 'name'].includes(failure.value.field))
// The service refuses what matches nothing, since a name is misspelt nearly always.
const nothing = computed(() => failure.value?.status === 409 && ['agent', 'server', 'tool'].includes(failure.value.field))
const reads = computed(
  () => `${form.effect === 'admit' ? 'Admits' : 'Refuses'} ${form.tool || '…'} on ${form.server || '…'} for ${form.agent || '…'}`,
)

async function submit() {
  const before = props.rule
  const rule = await run(() =>
    before
      ? api.updateRule(before.id, { ...form, anyway: anyway.value, version: before.version })
      : api.addRule({ ...form, anyway: anyway.value }),
  )
  if (rule) emit('done', rule)
}
</script>

<template>
  <ElDialog v-model="open" :title="rule ? `Change ${rule.name}` : 'Add a rule'" width="520px" append-to-body>
    <ErrorNote v-if="failure && general" :error="failure" />
    <ElForm label-position="top" @submit.prevent="submit">
      <ElFormItem label="Effect">
        <ElRadioGroup v-model="form.effect">
          <ElRadioButton value="admit">admit</ElRadioButton>
          <ElRadioButton value="refuse">refuse</ElRadioButton>
        </ElRadioGroup>
      </ElFormItem>
      <ElFormItem label="Agents" :error="fieldError('agent')"
        ><ElInput v-model="form.agent" name="agent" placeholder="marit-quill, *-quill, *"
      /></ElFormItem>
      <ElFormItem label="Servers" :error="fieldError('server')"
        ><ElInput v-model="form.server" name="server" placeholder="sailings, *"
      /></ElFormItem>
      <ElFormItem label="Tools" :error="fieldError('tool')"><ElInput v-model="form.tool" name="tool" placeholder="find_*, *" /></ElFormItem>
      <ElFormItem label="Reason (shown to agents)" :error="fieldError('note')"
        ><ElInput v-model="form.note" name="note" placeholder="a sentence, if it helps"
      /></ElFormItem>
      <ElFormItem label="Name" :error="fieldError('name')"
        ><ElInput v-model="form.name" name="name" :placeholder="rule ? '' : 'made of what the rule says'"
      /></ElFormItem>
      <ElCheckbox v-if="nothing || anyway" v-model="anyway">Save it although it matches nothing yet</ElCheckbox>
      <p class="soft">{{ reads }}. <code>*</code> is any run of characters, <code>?</code> is one. A refusal wins over an admission.</p>
      <div class="actions">
        <ElButton @click="open = false">Cancel</ElButton>
        <ElButton type="primary" native-type="submit" :loading="busy">{{ rule ? 'Save' : 'Add rule' }}</ElButton>
      </div>
    </ElForm>
  </ElDialog>
</template>
