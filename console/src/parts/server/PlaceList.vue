<script setup lang="ts">
import { ElButton, ElInput, ElOption, ElSelect } from 'element-plus'
import type * as api from '../../api'
import SecretSelect from './SecretSelect.vue'

/** Further secrets of a server, and where each goes. */
defineProps<{ process: boolean }>()
const places = defineModel<api.Place[]>({ required: true })
const words = { header: 'header', query: 'query parameter', basic: 'basic authentication', variable: 'variable', file: 'file, path in' }
const add = (process: boolean) => (places.value = [...places.value, { how: process ? 'variable' : 'header', name: '', secret: '' }])
const drop = (at: number) => (places.value = places.value.filter((_, i) => i !== at))
</script>

<template>
  <div class="rows">
    <div v-for="(p, at) in places" :key="at" class="row">
      <ElSelect v-model="p.how" aria-label="Where the secret goes">
        <ElOption
          v-for="how in process ? (['variable', 'file'] as const) : (['header', 'query', 'basic'] as const)"
          :key="how"
          :value="how"
          :label="words[how]"
        />
      </ElSelect>
      <ElInput
        v-model="p.name"
        :placeholder="process ? 'NAME' : p.how === 'basic' ? 'user name' : 'X-Team'"
        aria-label="Name of the variable, header or parameter"
      />
      <SecretSelect v-model="p.secret" label="Secret" />
      <ElButton text :aria-label="`Take ${p.name || 'this secret'} away`" @click="drop(at)">×</ElButton>
    </div>
    <ElButton size="small" @click="add(process)">Add a secret</ElButton>
  </div>
</template>

<style scoped>
.rows {
  width: 100%;
}
.row {
  display: grid;
  grid-template-columns: 130px 1fr 1fr 34px;
  gap: 6px;
  margin-bottom: 6px;
}
</style>
