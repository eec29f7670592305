<script setup lang="ts">
import { ElButton, ElCheckbox, ElDialog, ElForm, ElFormItem, ElInput, ElInputNumber } from 'element-plus'
import { computed, reactive, ref } from 'vue'
import * as api from '../api'
import { fullMoment } from '../use/format'
import { useAction } from '../use/resource'
import { useSession } from '../use/session'
import ErrorNote from './ErrorNote.vue'

/** Makes a one-time code with which an assistant on another machine is enrolled. */
const emit = defineEmits<{ close: []; made: [] }>()
const { service, may } = useSession()
const form = reactive({ agent: '', team: false, hours: 24 })
const made = ref<api.MachineInvited>()
const { busy, failure, run, fieldError } = useAction()
const open = computed({ get: () => true, set: () => emit('close') })
const command = computed(() => `bouncer enrol --address ${service.value?.address} --invite ${made.value?.code} --config FILE`)
async function submit() {
  made.value = await run(() => api.inviteMachine({ agent: form.agent, team: form.team || undefined, hours: form.hours }))
  if (made.value) emit('made')
}
const copy = () => navigator.clipboard.writeText(command.value)
</script>

<template>
  <ElDialog v-model="open" :title="made ? 'The code, shown this once' : 'Enrol another machine'" width="600px" append-to-body>
    <template v-if="made">
      <p>On the other machine, once, until {{ fullMoment(made.invitation.expires) }}:</p>
      <pre class="body" tabindex="0">{{ command }}</pre>
      <p class="soft">
        No login is needed there. {{ made.invitation.agent }} acts with the sign-ins of {{ made.invitation.owner || 'the team' }}: give the
        code to nobody else.
      </p>
      <div class="actions"><ElButton @click="copy">Copy</ElButton><ElButton type="primary" @click="open = false">Done</ElButton></div>
    </template>
    <ElForm v-else label-position="top" @submit.prevent="submit">
      <ErrorNote v-if="failure && !['agent', 'hours'].includes(failure.field)" :error="failure" />
      <ElFormItem label="Agent (made when the code is used, unless it is there)" :error="fieldError('agent')"
        ><ElInput v-model="form.agent" name="agent" placeholder="marit-laptop" autofocus
      /></ElFormItem>
      <ElFormItem label="Can be used for (hours)" :error="fieldError('hours')"
        ><ElInputNumber v-model="form.hours" :min="1" :max="168"
      /></ElFormItem>
      <ElCheckbox v-if="may('agents.speak', '')" v-model="form.team">A new agent belongs to the team</ElCheckbox>
      <div class="actions">
        <ElButton @click="open = false">Cancel</ElButton>
        <ElButton type="primary" native-type="submit" :loading="busy">Make the code</ElButton>
      </div>
    </ElForm>
  </ElDialog>
</template>
