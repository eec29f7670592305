<script setup lang="ts">
import { ElButton, ElDialog, ElForm, ElFormItem, ElInput, ElInputNumber, ElRadio, ElRadioGroup } from 'element-plus'
import { computed, onMounted, ref } from 'vue'
import * as api from '../api'
import { fullMoment, pretty } from '../use/format'
import { useAction, useResource } from '../use/resource'
import ErrorNote from './ErrorNote.vue'

/** Decides about a held call: for how long, with which arguments, or not at all. */
const props = defineProps<{ call: api.HeldCall }>()
const emit = defineEmits<{ close: []; done: [] }>()
const full = useResource(() => api.heldCall(props.call.id))
onMounted(full.load)
const open = computed({ get: () => true, set: () => emit('close') })
const how = ref<api.HeldDecision['how']>('once')
const calls = ref(5)
const args = ref(pretty(JSON.stringify(props.call.arguments ?? {})))
const word = ref('')
const broken = ref('')
const { busy, failure, run, fieldError } = useAction()
const general = computed(() => failure.value && !['arguments', 'calls', 'word'].includes(failure.value.field))
const before = computed(() => full.data.value?.before ?? [])

async function submit() {
  const body: api.HeldDecision = { how: how.value, word: word.value }
  broken.value = ''
  if (how.value === 'calls') body.calls = calls.value
  if (how.value === 'changed') {
    try {
      body.arguments = JSON.parse(args.value)
    } catch (err) {
      broken.value = `This is no JSON: ${(err as Error).message}`
      return
    }
  }
  if (await run(() => api.decideHeld(props.call.id, body))) emit('done')
}
</script>

<template>
  <ElDialog v-model="open" :title="`${call.server} / ${call.tool} for ${call.agent}`" width="560px" append-to-body>
    <ErrorNote v-if="failure && general" :error="failure" />
    <ElForm label-position="top" @submit.prevent="submit">
      <ElRadioGroup v-model="how" class="ways" aria-label="Decision">
        <ElRadio value="once">Admit this call</ElRadio>
        <ElRadio value="session">Admit it, and the like in this session of the agent</ElRadio>
        <ElRadio value="hour">Admit it, and the like for an hour</ElRadio>
        <ElRadio value="calls">Admit it, and the next calls of the like</ElRadio>
        <ElRadio value="changed">Admit it with other arguments</ElRadio>
        <ElRadio value="refuse">Refuse it</ElRadio>
      </ElRadioGroup>
      <ElFormItem v-if="how === 'calls'" label="How many more" :error="fieldError('calls')">
        <ElInputNumber v-model="calls" :min="1" :max="100" aria-label="How many more" />
      </ElFormItem>
      <ElFormItem v-if="how === 'changed'" label="Arguments that are sent instead" :error="broken || fieldError('arguments')">
        <ElInput v-model="args" type="textarea" :rows="8" class="mono" name="arguments" spellcheck="false" />
      </ElFormItem>
      <ElFormItem :label="how === 'refuse' ? 'A word to the agent' : 'A word for the record'" :error="fieldError('word')">
        <ElInput v-model="word" name="word" :placeholder="how === 'refuse' ? 'why, and what to do instead' : 'if it helps'" />
      </ElFormItem>
      <p v-if="before.length" class="soft">
        Before:
        <span v-for="p in before" :key="p.at" :title="fullMoment(p.at)">{{ p.how }} by {{ p.by }}{{ p.word ? ` (${p.word})` : '' }}; </span>
      </p>
      <div class="actions">
        <ElButton @click="open = false">Cancel</ElButton>
        <ElButton :type="how === 'refuse' ? 'danger' : 'primary'" native-type="submit" :loading="busy">{{
          how === 'refuse' ? 'Refuse' : 'Admit'
        }}</ElButton>
      </div>
    </ElForm>
  </ElDialog>
</template>

<style scoped>
.ways {
  display: flex;
  flex-direction: column;
  align-items: flex-start;
  margin-bottom: 12px;
}
</style>
