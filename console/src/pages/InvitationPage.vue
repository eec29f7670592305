<script setup lang="ts">
import { ElButton, ElForm, ElFormItem, ElInput } from 'element-plus'
import { reactive } from 'vue'
import { useRouter } from 'vue-router'
import * as api from '../api'
import ErrorNote from '../parts/ErrorNote.vue'
import GatePanel from '../parts/GatePanel.vue'
import { useAction } from '../use/resource'
import { useSession } from '../use/session'

/** Somebody opened the link of an invitation. */
const props = defineProps<{ token: string }>()
const router = useRouter()
const { enter } = useSession()
const form = reactive({ name: '', fullName: '', password: '' })
const { busy, failure, run, fieldError } = useAction()
async function join() {
  const p = await run(() => api.join({ token: props.token, ...form }))
  if (!p) return
  await router.replace('/')
  await enter(p)
}
</script>

<template>
  <GatePanel>
    <p>You are invited to the team. Choose how you sign in.</p>
    <ErrorNote v-if="failure && !['name', 'fullName', 'password'].includes(failure.field)" :error="failure" />
    <ElForm label-position="top" @submit.prevent="join">
      <ElFormItem label="User name" :error="fieldError('name')"
        ><ElInput v-model="form.name" name="name" autocomplete="username" autofocus
      /></ElFormItem>
      <ElFormItem label="Full name" :error="fieldError('fullName')"
        ><ElInput v-model="form.fullName" name="fullName" autocomplete="name"
      /></ElFormItem>
      <ElFormItem label="Password, at least 10 characters" :error="fieldError('password')"
        ><ElInput v-model="form.password" name="password" type="password" autocomplete="new-password" show-password
      /></ElFormItem>
      <ElButton class="wide" type="primary" native-type="submit" :loading="busy">Join the team</ElButton>
    </ElForm>
  </GatePanel>
</template>
