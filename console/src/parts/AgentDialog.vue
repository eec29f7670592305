<script setup lang="ts">
import { ElButton, ElDialog, ElForm, ElFormItem, ElInput, ElOption, ElSelect } from 'element-plus'
import { computed, onMounted, reactive } from 'vue'
import * as api from '../api'
import { useAction, useResource } from '../use/resource'
import { useSession } from '../use/session'
import ErrorNote from './ErrorNote.vue'

/** Adds an agent. */
const emit = defineEmits<{ close: []; done: [agent: api.Agent] }>()
const { person, may } = useSession()
const form = reactive({ name: '', kind: '', owner: person.value?.name ?? '' })
const { busy, failure, run } = useAction()
const { data: people, load } = useResource(() => api.people())
onMounted(load)
const open = computed({ get: () => true, set: () => emit('close') })
const fieldError = (name: string) => (failure.value?.field === name ? failure.value.message : '')

async function submit() {
  const agent = await run(() => api.addAgent({ ...form }))
  if (agent) emit('done', agent)
}
</script>

<template>
  <ElDialog v-model="open" title="Add an agent" width="460px" append-to-body>
    <ErrorNote v-if="failure && !['name', 'kind'].includes(failure.field)" :error="failure" />
    <ElForm label-position="top" @submit.prevent="submit">
      <ElFormItem label="Name" :error="fieldError('name')"
        ><ElInput v-model="form.name" name="name" placeholder="marit-quill" autofocus
      /></ElFormItem>
      <ElFormItem label="Which assistant it is" :error="fieldError('kind')"
        ><ElInput v-model="form.kind" name="kind" placeholder="quill"
      /></ElFormItem>
      <ElFormItem label="Owner">
        <ElSelect v-model="form.owner" :disabled="!may('agents.keep', '')">
          <ElOption value="" label="the team" />
          <ElOption v-for="p in people ?? []" :key="p.id" :value="p.name" :label="p.fullName" />
        </ElSelect>
      </ElFormItem>
      <div class="actions">
        <ElButton @click="open = false">Leave</ElButton>
        <ElButton type="primary" native-type="submit" :loading="busy">Add</ElButton>
      </div>
    </ElForm>
  </ElDialog>
</template>
