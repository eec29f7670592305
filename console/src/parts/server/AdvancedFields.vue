<script setup lang="ts">
import { ElFormItem, ElInput, ElInputNumber, ElOption, ElRadioButton, ElRadioGroup, ElSelect } from 'element-plus'
import { computed, onMounted } from 'vue'
import * as api from '../../api'
import { useResource } from '../../use/resource'
import type { ServerForm } from '../../use/serverform'
import PlaceList from './PlaceList.vue'
import SecretSelect from './SecretSelect.vue'
import ToolLimitList from './ToolLimitList.vue'

/** The settings that most servers need none of. */
defineProps<{ problem: (field: string) => string; fresh: boolean }>()
const form = defineModel<ServerForm>({ required: true })
const nodes = useResource(() => api.nodes()) // those who may not see them write a label themselves
onMounted(() => void nodes.load())
const labels = computed(() => [...new Set((nodes.data.value?.nodes ?? []).flatMap((n) => n.labels ?? []))].sort())
</script>

<template>
  <ElFormItem v-if="form.kind !== 'rest'" label="Sharing" :error="problem('sharing')">
    <ElSelect v-model="form.sharing" aria-label="Sharing">
      <ElOption value="auto" label="auto: per agent session where cheap" />
      <ElOption value="shared" label="shared by all agents" />
      <ElOption value="private" label="private: one per agent session" />
    </ElSelect>
  </ElFormItem>
  <ElFormItem v-if="form.kind === 'address'" label="Transport" :error="problem('transport')">
    <ElSelect v-model="form.transport" aria-label="Transport" :empty-values="[null]">
      <ElOption v-if="fresh" value="" label="found out" />
      <ElOption value="streamable-http" label="streamable HTTP" />
      <ElOption value="sse" label="event stream of 2024-11-05" />
    </ElSelect>
  </ElFormItem>
  <ElFormItem v-if="form.grant === ''" label="Stored secret instead of a token" :error="problem('secret')"
    ><SecretSelect v-model="form.secret" label="Stored secret"
  /></ElFormItem>
  <template v-if="form.kind === 'command'">
    <ElFormItem label="Runs, in a cluster" :error="problem('placement')">
      <ElSelect v-model="form.placement" aria-label="Runs, in a cluster" filterable allow-create>
        <ElOption value="everywhere" label="at every node" />
        <ElOption value="one" label="at one node at a time" />
        <ElOption v-for="label in labels" :key="label" :value="'label:' + label" :label="'at nodes with the label ' + label" />
      </ElSelect>
    </ElFormItem>
    <ElFormItem label="Memory limit (MiB)" :error="problem('memoryMiB')"
      ><ElInputNumber v-model="form.memoryMiB" :min="16" :step="64"
    /></ElFormItem>
    <ElFormItem label="Process limit" :error="problem('processes')"><ElInputNumber v-model="form.processes" :min="1" /></ElFormItem>
    <ElFormItem label="Open files of each process" :error="problem('openFiles')"
      ><ElInputNumber v-model="form.openFiles" :min="16" :step="64"
    /></ElFormItem>
  </template>
  <template v-else>
    <ElFormItem label="Header for the raw token" :error="problem('secretHeader')"
      ><ElInput v-model="form.secretHeader" name="secretHeader" placeholder="X-Api-Key"
    /></ElFormItem>
    <ElFormItem v-if="form.kind === 'rest'" label="Query parameter for the raw token" :error="problem('secretQuery')"
      ><ElInput v-model="form.secretQuery" name="secretQuery" placeholder="key"
    /></ElFormItem>
    <ElFormItem label="Additional headers, Name: value, one per line" :error="problem('headers')"
      ><ElInput v-model="form.headers" name="headers" type="textarea" :rows="2"
    /></ElFormItem>
    <ElFormItem label="Certificate authorities to trust for it (PEM)" :error="problem('ca')"
      ><ElInput v-model="form.ca" name="ca" type="textarea" :rows="2" placeholder="-----BEGIN CERTIFICATE-----"
    /></ElFormItem>
    <ElFormItem label="Client certificate to show to it (PEM)" :error="problem('clientCert')"
      ><ElInput v-model="form.clientCert" name="clientCert" type="textarea" :rows="2" placeholder="-----BEGIN CERTIFICATE-----"
    /></ElFormItem>
    <ElFormItem v-if="form.clientCert" label="Key of the client certificate" :error="problem('clientKey')"
      ><SecretSelect v-model="form.clientKey" label="Key of the client certificate"
    /></ElFormItem>
  </template>
  <ElFormItem label="Further secrets" :error="problem('places')"
    ><PlaceList v-model="form.places" :process="form.kind === 'command'"
  /></ElFormItem>
  <ElFormItem label="Time limit of a call (seconds)" :error="problem('callSeconds')"
    ><ElInputNumber v-model="form.callSeconds" :min="1" :max="86400" :step="30"
  /></ElFormItem>
  <ElFormItem label="Result limit (KiB)" :error="problem('resultKiB')"
    ><ElInputNumber v-model="form.resultKiB" :min="1" :step="64"
  /></ElFormItem>
  <ElFormItem v-if="form.resultKiB" label="Larger results are" :error="problem('tooLarge')">
    <ElRadioGroup v-model="form.tooLarge">
      <ElRadioButton value="cut">cut</ElRadioButton>
      <ElRadioButton value="refuse">refused</ElRadioButton>
    </ElRadioGroup>
  </ElFormItem>
  <ElFormItem label="Limits for some tools" :error="problem('toolLimits')"><ToolLimitList v-model="form.toolLimits" /></ElFormItem>
  <ElFormItem label="Largest message that is taken from it (MiB)" :error="problem('messageMiB')"
    ><ElInputNumber v-model="form.messageMiB" :min="1" :max="256"
  /></ElFormItem>
</template>
