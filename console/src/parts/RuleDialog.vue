<script setup lang="ts">
import { ElButton, ElDialog, ElForm, ElFormItem, ElInput, ElRadioButton, ElRadioGroup } from 'element-plus'
import { computed, reactive } from 'vue'
import * as api from '../api'
import { useAction } from '../use/resource'
import ErrorNote from './ErrorNote.vue'

/** Adds a rule, filled in beforehand where the page knows what it is about. */
const props = defineProps<{ preset?: Partial<api.Rule> }>()
const emit = defineEmits<{ close: []; done: [rule: api.Rule] }>()
const form = reactive({
  effect: props.preset?.effect ?? 'admit',
  agent: props.preset?.agent ?? '',
  server: props.preset?.server ?? '',
  tool: props.preset?.tool ?? '',
  note: '',
})
const { busy, failure, run } = useAction()
const open = computed({ get: () => true, set: () => emit('close') })
const fieldError = (name: string) => (failure.value?.field === name ? failure.value.message : '')
const general = computed(() => failure.value && !['agent', 'server', 'tool', 'note'].includes(failure.value.field))
const reads = computed(
  () => `${form.effect === 'admit' ? 'Admits' : 'Refuses'} ${form.tool || '…'} on ${form.server || '…'} for ${form.agent || '…'}`,
)

async function submit() {
  const rule = await run(() => api.addRule({ ...form }))
  if (rule) emit('done', rule)
}
</script>

<template>
  <ElDialog v-model="open" title="Add a rule" width="520px" append-to-body>
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
      <ElFormItem label="Why (agents are told)" :error="fieldError('note')"
        ><ElInput v-model="form.note" name="note" placeholder="a sentence, if it helps"
      /></ElFormItem>
      <p class="soft">{{ reads }}. <code>*</code> is any run of characters, <code>?</code> is one. A refusal wins over an admission.</p>
      <div class="actions">
        <ElButton @click="open = false">Leave</ElButton>
        <ElButton type="primary" native-type="submit" :loading="busy">Put in force</ElButton>
      </div>
    </ElForm>
  </ElDialog>
</template>
