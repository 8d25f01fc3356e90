<script setup lang="ts">
import InputNumber from 'primevue/inputnumber'

/** A number, said when it is finished; an empty field is null. */
defineProps<{
  modelValue: number | null | undefined
  min?: number
  max?: number
  whole?: boolean
  label?: string
  placeholder?: string
}>()
const emit = defineEmits<{ 'update:modelValue': [value: number | null] }>()
</script>

<template>
  <InputNumber
    :model-value="modelValue ?? null"
    :min="min"
    :max="max"
    :use-grouping="false"
    :placeholder="placeholder"
    :max-fraction-digits="whole ? 0 : 12"
    :pt="{ pcInputText: { root: { class: 'field number', 'aria-label': label } } }"
    @update:model-value="emit('update:modelValue', $event ?? null)"
  />
</template>
