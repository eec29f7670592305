<script setup lang="ts">
import { ElCheckbox, ElInput } from 'element-plus'
import { computed, ref } from 'vue'
import type * as api from '../api'

/** Picks the operations of a REST API that become tools, and their names. */
const props = defineProps<{ operations: api.OperationInfo[] }>()
const picks = defineModel<api.Operation[]>({ required: true })
const filter = ref('')
const shown = computed(() => {
  const f = filter.value.trim().toLowerCase()
  return props.operations.filter((o) => !f || `${o.id} ${o.method} ${o.path} ${o.summary}`.toLowerCase().includes(f))
})
const picked = (id: string) => picks.value.find((p) => p.id === id)
const word = (o: api.OperationInfo) => (o.problem ? `no tool: ${o.problem}` : o.readOnly ? 'read only' : o.destructive ? 'destructive' : '')

function toggle(id: string, on: unknown) {
  picks.value = on ? [...picks.value, { id }] : picks.value.filter((p) => p.id !== id)
}
function rename(id: string, name: string) {
  picks.value = picks.value.map((p) => (p.id === id ? { ...p, name: name || undefined } : p))
}
</script>

<template>
  <div class="picker">
    <div class="top">
      <ElInput v-model="filter" placeholder="Filter operations" clearable aria-label="Filter operations" />
      <span class="soft" role="status">{{ picks.length }} of {{ operations.length }} are tools</span>
    </div>
    <ul>
      <li v-for="o in shown" :key="o.id">
        <ElCheckbox
          :model-value="picked(o.id) !== undefined"
          :disabled="Boolean(o.problem)"
          :name="o.id"
          @update:model-value="(on) => toggle(o.id, on)"
        >
          <span class="mono">{{ o.method }} {{ o.path }}</span>
        </ElCheckbox>
        <ElInput
          v-if="picked(o.id)"
          class="as"
          size="small"
          :model-value="picked(o.id)?.name ?? ''"
          :placeholder="o.tool || o.id"
          :aria-label="`Name of the tool for ${o.id}`"
          @update:model-value="(n) => rename(o.id, n)"
        />
        <div class="soft">
          {{ o.summary }} <em v-if="word(o)">{{ word(o) }}</em>
        </div>
      </li>
    </ul>
    <p v-if="!shown.length" class="soft">No operation matches the filter.</p>
  </div>
</template>

<style scoped>
.picker {
  width: 100%;
}
.top {
  display: flex;
  gap: 10px;
  align-items: center;
  white-space: nowrap;
}
ul {
  list-style: none;
  margin: 6px 0 0;
  padding: 0;
  max-height: 250px;
  overflow-y: auto;
}
li {
  padding: 3px 0 5px;
  border-bottom: 1px solid var(--line);
  line-height: 1.35;
}
.as {
  width: 170px;
  float: right;
}
li .soft {
  padding-left: 24px;
}
</style>
