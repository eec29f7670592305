<script setup lang="ts">
import { ElFormItem, ElInput } from 'element-plus'
import type { ServerForm } from '../../use/serverform'

/** Where a server at an address is. */
defineProps<{ problem: (field: string) => string; fresh: boolean }>()
const form = defineModel<ServerForm>({ required: true })
</script>

<template>
  <ElFormItem :label="form.kind === 'rest' ? 'Base address of the API' : 'Address of the MCP endpoint'" :error="problem('url')">
    <ElInput v-model="form.url" name="url" :placeholder="form.kind === 'rest' ? 'https://api.example/v2' : 'https://tools.example/mcp'" />
    <span v-if="form.kind === 'address' && fresh" class="soft">Which transport and revision it speaks is found out.</span>
  </ElFormItem>
</template>
