<script setup lang="ts">
import { ElButton, ElInput, ElInputNumber, ElOption, ElSelect, ElSwitch } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { initial, inputType, kindOf, resolve, type Schema } from '../use/schemaform'

/** One field of a form that is made from a schema; objects, lists and variants hold further ones. */
const props = defineProps<{ schema: Schema; root: Schema; name: string; required?: boolean }>()
const value = defineModel<unknown>()

const s = computed(() => resolve(props.schema, props.root))
const kind = computed(() => kindOf(s.value))
const label = computed(() => s.value.title || props.name)
const choices = computed(() => (s.value.enum ?? [s.value.const]).map((v) => ({ value: JSON.stringify(v), label: String(v) })))
const variants = computed(() => (s.value.oneOf ?? s.value.anyOf ?? []).map((v) => resolve(v, props.root)))
const chosen = ref(0)
const variant = computed(() => variants.value[chosen.value] ?? {})
const object = computed(() => (value.value ?? {}) as Record<string, unknown>)
const list = computed(() => (Array.isArray(value.value) ? value.value : []))
const json = ref('')
const broken = ref(false)
watch(json, (text) => {
  if (!text.trim()) {
    value.value = undefined
    broken.value = false
    return
  }
  try {
    value.value = JSON.parse(text)
    broken.value = false
  } catch {
    broken.value = true
  }
})
const picked = computed({
  get: () => (value.value === undefined ? '' : JSON.stringify(value.value)),
  set: (v: string) => (value.value = v ? JSON.parse(v) : undefined),
})
function set(name: string, v: unknown) {
  value.value = { ...object.value, [name]: v }
}
function setAt(i: number, v: unknown) {
  value.value = list.value.map((x, n) => (n === i ? v : x))
}
function add() {
  value.value = [...list.value, initial(s.value.items ?? {}, props.root)]
}
function drop(i: number) {
  value.value = list.value.filter((_, n) => n !== i)
}
watch(chosen, () => (value.value = initial(variant.value, props.root)))
const text = computed(() => (typeof value.value === 'string' ? value.value : ''))
const number = computed(() => (typeof value.value === 'number' ? value.value : undefined))
const needs = (name: string) => (s.value.required ?? []).includes(name)
</script>

<template>
  <fieldset v-if="kind === 'object'" class="group">
    <legend v-if="name">{{ label }}</legend>
    <p v-if="name && s.description" class="soft">{{ s.description }}</p>
    <SchemaField
      v-for="(p, n) in s.properties"
      :key="n"
      :schema="p"
      :root="root"
      :name="String(n)"
      :required="needs(String(n))"
      :model-value="object[n]"
      @update:model-value="set(String(n), $event)"
    />
    <p v-if="!Object.keys(s.properties ?? {}).length" class="soft">It takes no arguments.</p>
  </fieldset>
  <fieldset v-else-if="kind === 'array'" class="group">
    <legend>{{ label }}<span v-if="required" class="warn"> *</span></legend>
    <p v-if="s.description" class="soft">{{ s.description }}</p>
    <div v-for="(v, i) in list" :key="i" class="entry">
      <SchemaField
        :schema="s.items ?? {}"
        :root="root"
        :name="`${name} ${i + 1}`"
        :model-value="v"
        @update:model-value="setAt(i, $event)"
      />
      <ElButton size="small" :aria-label="`Remove ${name} ${i + 1}`" @click="drop(i)">Remove</ElButton>
    </div>
    <ElButton size="small" @click="add">Add to {{ label }}</ElButton>
  </fieldset>
  <fieldset v-else-if="kind === 'variants'" class="group">
    <legend>{{ label }}<span v-if="required" class="warn"> *</span></legend>
    <ElSelect v-model="chosen" :aria-label="`Which ${label}`">
      <ElOption v-for="(v, i) in variants" :key="i" :value="i" :label="v.title || v.description || String(v.type ?? `variant ${i + 1}`)" />
    </ElSelect>
    <SchemaField :key="chosen" v-model="value" :schema="variant" :root="root" :name="name" />
  </fieldset>
  <label v-else class="field">
    <span class="name">
      {{ label }}<span v-if="required" class="warn" title="it has to be given"> *</span>
      <span v-if="s.description" class="soft"> {{ s.description }}</span>
    </span>
    <ElSelect v-if="kind === 'choice'" v-model="picked" clearable :aria-label="label">
      <ElOption v-for="c in choices" :key="c.value" :value="c.value" :label="c.label" />
    </ElSelect>
    <ElSwitch v-else-if="kind === 'boolean'" :model-value="value === true" :aria-label="label" @update:model-value="value = $event" />
    <ElInputNumber
      v-else-if="kind === 'number'"
      :model-value="number"
      :min="s.minimum"
      :max="s.maximum"
      :precision="s.type === 'integer' ? 0 : undefined"
      :controls="false"
      :aria-label="label"
      @update:model-value="value = $event ?? undefined"
    />
    <ElInput
      v-else-if="kind === 'text'"
      :model-value="text"
      :type="inputType(s.format)"
      :maxlength="s.maxLength"
      :aria-label="label"
      @update:model-value="value = $event === '' && !required ? undefined : $event"
    />
    <template v-else>
      <ElInput v-model="json" type="textarea" :rows="3" placeholder="JSON" :aria-label="`${label}, as JSON`" />
      <span v-if="broken" class="bad">That is no JSON yet.</span>
    </template>
  </label>
</template>

<style scoped>
.group {
  margin: 0 0 10px;
  padding: 0 0 0 10px;
  border: 0;
  border-left: 2px solid var(--line);
}
.group legend {
  padding: 0;
  font-weight: 600;
}
.field {
  display: block;
  margin-bottom: 10px;
}
.name {
  display: block;
  margin-bottom: 3px;
}
.name .soft {
  margin-left: 4px;
}
.entry {
  display: flex;
  gap: 8px;
  align-items: flex-end;
  margin-bottom: 6px;
}
.entry > :first-child {
  flex: 1;
}
.entry .el-button {
  margin-bottom: 10px;
}
</style>
