<script setup lang="ts">
import { computed } from 'vue'
import FoldedPart from './FoldedPart.vue'
import SettingsEntry from './SettingsEntry.vue'
import { describe, type Field, type Schema } from './settingsFields'

/** A form drawn from a settings model's JSON schema: the model is the only description. */
const props = defineProps<{
  schema: Record<string, unknown>
  modelValue: Record<string, unknown>
  skip?: string[]
}>()
const emit = defineEmits<{ 'update:modelValue': [value: Record<string, unknown>] }>()

const fields = computed<Field[]>(() => {
  const properties = (props.schema.properties ?? {}) as Record<string, Schema>
  const hidden = ['schema_version', 'plan', 'version', ...(props.skip ?? [])]
  return Object.entries(properties)
    .filter(([name, schema]) => schema.const === undefined && !hidden.includes(name))
    .map(([name, schema]) => describe(name, schema))
})

/** Those that mean something beside what is filled in. */
const shown = computed(() =>
  fields.value.filter((field) =>
    Object.entries(field.where).every(([name, values]) => {
      const other = fields.value.find((each) => each.name === name)
      return other && values.includes(valueOf(other))
    }),
  ),
)
/** Fields by their group, in the order groups first appear; advanced ones apart. */
const groups = computed(() => {
  const plain = shown.value.filter((field) => !field.advanced)
  return [...new Set(plain.map((field) => field.group))].map((name) => ({
    name,
    fields: plain.filter((field) => field.group === name),
  }))
})
const advanced = computed(() => shown.value.filter((field) => field.advanced))

const valueOf = (field: Field) => props.modelValue[field.name] ?? field.fallback ?? null
/** A field that loses the focus to another form's says so once more: what is not of this form, or the same, is nothing. */
function set(field: Field, value: unknown) {
  if (fields.value.includes(field) && valueOf(field) !== value)
    emit('update:modelValue', { ...props.modelValue, [field.name]: value })
}
</script>

<template>
  <div class="form">
    <template v-for="group in groups" :key="group.name">
      <h3 v-if="group.name" class="second">{{ group.name }}</h3>
      <SettingsEntry
        v-for="field in group.fields"
        :key="field.name"
        :field="field"
        :value="valueOf(field)"
        @set="set(field, $event)"
      />
    </template>
    <FoldedPart v-if="advanced.length" title="Advanced">
      <SettingsEntry
        v-for="field in advanced"
        :key="field.name"
        :field="field"
        :value="valueOf(field)"
        @set="set(field, $event)"
      />
    </FoldedPart>
  </div>
</template>

<style scoped>
.form {
  display: flex;
  flex-direction: column;
  gap: 6px;
}
h3 {
  margin: 6px 0 0;
  font-size: 12px;
  font-weight: 400;
}
</style>
