<script setup lang="ts">
import { ElOption, ElSelect } from 'element-plus'
import { onMounted } from 'vue'
import * as api from '../../api'
import { useResource } from '../../use/resource'

/** Picks a stored secret by its name. */
defineProps<{ label: string }>()
const name = defineModel<string>({ required: true })
const { data, load } = useResource(() => api.secrets())
onMounted(load)
</script>

<template>
  <ElSelect v-model="name" filterable clearable :aria-label="label" placeholder="a stored secret" :value-on-clear="() => ''">
    <ElOption v-for="s in (data ?? []).filter((x) => !x.owner && !x.agent)" :key="s.name" :value="s.name" :label="s.name" />
    <template #empty><p class="none soft">No secrets are stored yet; add one on the page Secrets.</p></template>
  </ElSelect>
</template>

<style scoped>
.none {
  padding: 8px 12px;
  margin: 0;
}
</style>
