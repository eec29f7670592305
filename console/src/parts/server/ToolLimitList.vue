<script setup lang="ts">
import { ElButton, ElInput, ElInputNumber, ElOption, ElSelect } from 'element-plus'
import type * as api from '../../api'

/** Other limits for some of a server's tools; the first that fits counts. */
const limits = defineModel<api.ToolLimits[]>({ required: true })
const drop = (at: number) => (limits.value = limits.value.filter((_, i) => i !== at))
</script>

<template>
  <div class="rows">
    <div v-for="(l, at) in limits" :key="at" class="row">
      <ElInput v-model="l.tool" placeholder="list_*" aria-label="Tool, or a pattern" />
      <ElInputNumber
        v-model="l.callSeconds"
        :min="0"
        :max="86400"
        :controls="false"
        placeholder="seconds"
        aria-label="Time limit in seconds"
      />
      <ElInputNumber v-model="l.resultKiB" :min="0" :controls="false" placeholder="KiB" aria-label="Result limit in KiB" />
      <ElSelect v-model="l.tooLarge" placeholder="refused" clearable aria-label="Larger results are">
        <ElOption value="cut" label="cut" /><ElOption value="refuse" label="refused" />
      </ElSelect>
      <ElButton text :aria-label="`Take the limits of ${l.tool || 'these tools'} away`" @click="drop(at)">×</ElButton>
    </div>
    <ElButton size="small" @click="limits = [...limits, { tool: '' }]">Add limits for some tools</ElButton>
  </div>
</template>

<style scoped>
.rows {
  width: 100%;
}
.row {
  display: grid;
  grid-template-columns: 1.4fr 90px 90px 116px 34px;
  gap: 6px;
  margin-bottom: 6px;
}
.row :deep(.el-input-number) {
  width: 100%;
}
</style>
