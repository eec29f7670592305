<script setup lang="ts">
import { ElButton, ElCheckbox, ElForm, ElFormItem, ElInput, ElMessage, ElRadioButton, ElRadioGroup } from 'element-plus'
import { computed, onMounted, reactive, watch } from 'vue'
import * as api from '../api'
import ErrorNote from '../parts/ErrorNote.vue'
import { ago } from '../use/format'
import { useAction, useResource } from '../use/resource'
import { useSession } from '../use/session'

/** What the person who is signed in is told of by mail, and when. */
const { may } = useSession()
const wish = useResource(() => api.mailWish())
const state = useResource(() => api.mailState())
const saving = useAction()
const trial = useAction()
const topics: { value: api.Wish['topics'][number]; text: string; means: string }[] = [
  { value: 'held', text: 'Held calls', means: 'a call waits that you may decide' },
  { value: 'incidents', text: 'Incidents', means: 'a server begins to fail, and when that is over' },
  { value: 'secrets', text: 'Secrets', means: 'one that you may replace ends soon' },
  { value: 'budgets', text: 'Budgets', means: 'an agent that you may see has spent one' },
]
const form = reactive<api.Wish>({ mail: '', topics: [], every: 'once', at: '08:00', quietFrom: '', quietTo: '', zone: '' })
watch(wish.data, (w) => {
  if (!w) return
  Object.assign(form, {
    mail: w.mail,
    topics: [...w.topics],
    every: w.every,
    at: w.at,
    quietFrom: w.quietFrom,
    quietTo: w.quietTo,
    zone: w.zone || (w.mail ? '' : Intl.DateTimeFormat().resolvedOptions().timeZone),
  })
})
onMounted(() => {
  void wish.load()
  if (may('service.see')) void state.load()
})
const chosen = (t: (typeof topics)[number]['value']) =>
  computed({
    get: () => form.topics.includes(t),
    set: (on: boolean) => {
      form.topics = on ? [...form.topics, t] : form.topics.filter((x) => x !== t)
    },
  })
const boxes = topics.map((t) => ({ ...t, on: chosen(t.value) }))
async function save() {
  const kept = await saving.run(() => api.setMailWish({ ...form }))
  if (!kept) return
  wish.data.value = kept
  ElMessage({ type: 'success', message: kept.mail && kept.topics.length ? 'Saved.' : 'Saved: you are told of nothing.' })
}
async function send() {
  const sent = await trial.run(async () => {
    await api.testMail()
    return true
  })
  if (sent) ElMessage({ type: 'success', message: `The mail server took a mail to ${wish.data.value?.mail}.` })
}
</script>

<template>
  <div class="pagehead">
    <h1>Notices</h1>
    <span class="soft">What you are told of by mail, and when.</span>
  </div>
  <ErrorNote v-if="wish.error.value" :error="wish.error.value" :retry="wish.load" />
  <p v-if="wish.data.value && !wish.data.value.sends" class="note" role="status">
    No mail is sent yet. Whoever runs the service names a mail server: <code>mail-server</code> and <code>mail-from</code>, see
    <code>bouncer serve -h</code>.
  </p>
  <section v-if="wish.data.value" class="sheet pad one">
    <ElForm label-position="top" @submit.prevent="save">
      <ElFormItem label="Your mail address" :error="saving.fieldError('mail')">
        <ElInput v-model="form.mail" name="mail" placeholder="joss@skerrow.example" clearable />
      </ElFormItem>
      <ElFormItem label="Tell me of" :error="saving.fieldError('topics')">
        <div class="topics">
          <ElCheckbox v-for="b in boxes" :key="b.value" v-model="b.on.value"
            >{{ b.text }} <span class="soft">{{ b.means }}</span></ElCheckbox
          >
        </div>
      </ElFormItem>
      <ElFormItem label="How often" :error="saving.fieldError('every')">
        <ElRadioGroup v-model="form.every" aria-label="How often">
          <ElRadioButton value="once">at once</ElRadioButton>
          <ElRadioButton value="hour">once an hour</ElRadioButton>
          <ElRadioButton value="day">once a day</ElRadioButton>
        </ElRadioGroup>
      </ElFormItem>
      <div class="row">
        <ElFormItem v-if="form.every === 'day'" label="At" :error="saving.fieldError('at')">
          <ElInput v-model="form.at" name="at" placeholder="08:00" />
        </ElFormItem>
        <ElFormItem label="Quiet from" :error="saving.fieldError('quietFrom')">
          <ElInput v-model="form.quietFrom" name="quietFrom" placeholder="22:00" clearable />
        </ElFormItem>
        <ElFormItem label="Until" :error="saving.fieldError('quietTo')">
          <ElInput v-model="form.quietTo" name="quietTo" placeholder="07:00" clearable />
        </ElFormItem>
        <ElFormItem label="Time zone" :error="saving.fieldError('zone')">
          <ElInput v-model="form.zone" name="zone" placeholder="UTC" />
        </ElFormItem>
      </div>
      <p class="soft">In the quiet hours nothing is sent; it comes in one mail when they are over.</p>
      <ErrorNote v-if="saving.failure.value && !saving.failure.value.field" :error="saving.failure.value" />
      <ErrorNote v-if="trial.failure.value" :error="trial.failure.value" />
      <ElButton type="primary" native-type="submit" :loading="saving.busy.value">Save</ElButton>
      <ElButton :loading="trial.busy.value" :disabled="!wish.data.value.mail || !wish.data.value.sends" @click="send"
        >Send a trial mail</ElButton
      >
    </ElForm>
  </section>
  <p v-if="state.data.value?.server" class="soft">
    {{ state.data.value.sent }} mails went to {{ state.data.value.server }} since the service started<template
      v-if="state.data.value.failed"
      >, and {{ state.data.value.failed }} failed; the last {{ ago(state.data.value.errorAt) }}: {{ state.data.value.error }}</template
    >.
  </p>
</template>

<style scoped>
.one {
  max-width: 640px;
  margin-bottom: 12px;
}
.topics {
  display: flex;
  flex-direction: column;
}
.row {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(120px, 1fr));
  gap: 0 12px;
}
</style>
