<script setup lang="ts">
import { ElButton, ElForm, ElFormItem, ElInput } from 'element-plus'
import { computed, reactive, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import * as api from '../api'
import ErrorNote from '../parts/ErrorNote.vue'
import GatePanel from '../parts/GatePanel.vue'
import { useAction } from '../use/resource'
import { useSession } from '../use/session'

const { person, service, enter: inside } = useSession()
const route = useRoute()
const problem = ref<api.SignInProblem>()
const form = reactive({ name: '', password: '', fresh: '', again: '' })
const { busy, failure, run, fieldError } = useAction()
const choosing = computed(() => person.value?.mustChange ?? false)
const differ = computed(() => form.again !== '' && form.fresh !== form.again)

// The first route is there only after the page.
watch(
  () => route.query.problem,
  async (id) => {
    if (typeof id === 'string') problem.value = await api.signInProblem(id).catch(() => undefined)
  },
  { immediate: true },
)
async function elsewhere() {
  const back = route.fullPath.startsWith('/?problem') ? '/' : route.fullPath
  const to = await run(() => api.signInElsewhere(back))
  if (to) window.location.assign(to.url)
}
async function enter() {
  const p = await run(() => api.signIn(form.name.trim(), form.password))
  if (p) await inside(p)
}
async function choose() {
  if (differ.value) return
  const done = await run(async () => {
    await api.changePassword(form.password, form.fresh)
    return api.whoAmI()
  })
  if (done) await inside(done)
}
</script>

<template>
  <GatePanel>
    <template v-if="!choosing">
      <p class="soft">Between your team's assistants and its tool servers.</p>
      <ErrorNote v-if="failure" :error="failure" />
      <ErrorNote v-else-if="problem" :error="new api.ApiError(0, problem.what, problem.hint)" />
      <template v-if="service?.provider">
        <ElButton class="wide" type="primary" :loading="busy" @click="elsewhere">Sign in with {{ service.provider }}</ElButton>
        <p class="soft small or">or with a password kept here</p>
      </template>
      <ElForm label-position="top" @submit.prevent="enter">
        <ElFormItem label="Name"><ElInput v-model="form.name" name="name" autocomplete="username" autofocus /></ElFormItem>
        <ElFormItem label="Password"
          ><ElInput v-model="form.password" name="password" type="password" autocomplete="current-password" show-password
        /></ElFormItem>
        <ElButton class="wide" :type="service?.provider ? 'default' : 'primary'" native-type="submit" :loading="busy">Sign in</ElButton>
      </ElForm>
      <p class="soft small">First start? The service printed a one-time password for the first admin.</p>
    </template>
    <template v-else>
      <p>This was a one-time password. Choose your own: at least 10 characters, without your name in it.</p>
      <ErrorNote v-if="failure && !failure.field" :error="failure" />
      <ElForm label-position="top" @submit.prevent="choose">
        <ElFormItem v-if="form.password === '' || fieldError('old')" label="One-time password" :error="fieldError('old')"
          ><ElInput v-model="form.password" name="old" type="password"
        /></ElFormItem>
        <ElFormItem label="New password" :error="fieldError('new')"
          ><ElInput v-model="form.fresh" name="fresh" type="password" autocomplete="new-password" show-password autofocus
        /></ElFormItem>
        <ElFormItem label="Repeat new password" :error="differ ? 'The two differ' : ''"
          ><ElInput v-model="form.again" name="again" type="password" autocomplete="new-password"
        /></ElFormItem>
        <ElButton class="wide" type="primary" native-type="submit" :loading="busy">Set password</ElButton>
      </ElForm>
    </template>
  </GatePanel>
</template>

<style scoped>
.or {
  text-align: center;
  margin: 10px 0 4px;
}
.small {
  font-size: 12px;
}
</style>
