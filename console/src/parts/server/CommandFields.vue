<script setup lang="ts">
import { ElFormItem, ElInput } from 'element-plus'
import type { ServerForm } from '../../use/serverform'

/** How a local process is started. */
defineProps<{ problem: (field: string) => string }>()
const form = defineModel<ServerForm>({ required: true })
</script>

<template>
  <ElFormItem label="Command (on the machine that runs Bouncer)" :error="problem('command')">
    <ElInput v-model="form.command" name="command" placeholder="/opt/skerrow/berths" />
  </ElFormItem>
  <ElFormItem label="Arguments, one per line" :error="problem('args')"
    ><ElInput v-model="form.args" name="args" type="textarea" :rows="2"
  /></ElFormItem>
  <ElFormItem label="Working directory (optional)" :error="problem('dir')"><ElInput v-model="form.dir" name="dir" /></ElFormItem>
  <ElFormItem label="Environment variables, NAME=value, one per line" :error="problem('env')"
    ><ElInput v-model="form.env" name="env" type="textarea" :rows="2"
  /></ElFormItem>
  <ElFormItem label="Environment variable for the secret (optional)" :error="problem('secretEnv')"
    ><ElInput v-model="form.secretEnv" name="secretEnv" placeholder="BERTHS_KEY"
  /></ElFormItem>
</template>
