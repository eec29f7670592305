<script setup lang="ts">
import { ElButton, ElCheckbox, ElDialog, ElForm, ElFormItem, ElInput, ElInputNumber, ElOption, ElSelect } from 'element-plus'
import { computed, onMounted, reactive } from 'vue'
import * as api from '../api'
import { useAction, useResource } from '../use/resource'
import { useSession } from '../use/session'
import ErrorNote from './ErrorNote.vue'

/** Adds an agent, or alters one: whose it is, and how its tools are listed. */
const props = defineProps<{ agent?: api.Agent }>()
const emit = defineEmits<{ close: []; done: [agent: api.Agent] }>()
const { person, may } = useSession()
const form = reactive({
  name: props.agent?.name ?? '',
  kind: props.agent?.kind ?? '',
  finder: props.agent?.finder ?? false,
  contextTokens: props.agent?.contextTokens ?? 0,
  owner: props.agent ? props.agent.owner : (person.value?.name ?? ''),
})
const moves = computed(() => props.agent && form.owner !== props.agent.owner)
const { busy, failure, run, fieldError } = useAction()
const { data: people, load } = useResource(() => api.people())
onMounted(load)
const open = computed({ get: () => true, set: () => emit('close') })

async function submit() {
  const { agent: before } = props
  const agent = await run(() => {
    if (!before) return api.addAgent({ name: form.name, kind: form.kind, owner: form.owner })
    const { kind, owner, finder } = form
    return api.updateAgent(before.name, { kind, owner, finder, contextTokens: form.contextTokens ?? 0, version: before.version })
  })
  if (agent) emit('done', agent)
}
</script>

<template>
  <ElDialog v-model="open" :title="agent ? `Alter ${agent.name}` : 'Add an agent'" width="460px" append-to-body>
    <ErrorNote v-if="failure && !['name', 'kind'].includes(failure.field)" :error="failure" />
    <ElForm label-position="top" @submit.prevent="submit">
      <ElFormItem v-if="!agent" label="Name" :error="fieldError('name')"
        ><ElInput v-model="form.name" name="name" placeholder="marit-quill" autofocus
      /></ElFormItem>
      <ElFormItem label="Assistant" :error="fieldError('kind')"><ElInput v-model="form.kind" name="kind" placeholder="quill" /></ElFormItem>
      <ElFormItem label="Owner">
        <ElSelect v-model="form.owner" :disabled="!may('agents.keep', '')">
          <ElOption value="" label="the team" />
          <ElOption v-for="p in people ?? []" :key="p.id" :value="p.name" :label="p.fullName" />
        </ElSelect>
      </ElFormItem>
      <template v-if="agent">
        <ElFormItem label="Context window (tokens; 0 if not known)" :error="fieldError('contextTokens')">
          <ElInputNumber v-model="form.contextTokens" name="contextTokens" :min="0" :max="100000000" :step="1000" :controls="false" />
        </ElFormItem>
        <ElCheckbox v-model="form.finder" name="finder">It searches its tools with two small ones, instead of having all listed</ElCheckbox>
      </template>
      <p v-if="moves" class="soft" role="status">
        Its passes, and the credentials, sign-ins and programs that it has of its own, end with this. The new owner makes a pass.
      </p>
      <div class="actions">
        <ElButton @click="open = false">Cancel</ElButton>
        <ElButton type="primary" native-type="submit" :loading="busy">{{ agent ? 'Save' : 'Add' }}</ElButton>
      </div>
    </ElForm>
  </ElDialog>
</template>
