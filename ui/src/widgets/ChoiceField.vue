<script setup lang="ts" generic="V extends string | number | null">
import Select from 'primevue/select'
import { computed, onMounted, ref } from 'vue'

/** One of several values; long lists are searched, very long ones drawn as they are scrolled. */
type Option = { value: V; label: string; group?: string; hint?: string }
const props = defineProps<{
  modelValue: V
  options: readonly (V | Option)[]
  /** What it is called, where no label stands around it. */
  label?: string
  placeholder?: string
  disabled?: boolean
}>()
const emit = defineEmits<{ 'update:modelValue': [value: V] }>()
const SEARCHED = 12
const DRAWN = 100
const HEIGHT = 26

const all = computed(() =>
  props.options.map((each) =>
    each !== null && typeof each === 'object' ? each : { value: each, label: String(each ?? '') },
  ),
)
/** What an empty value is called, which the library does not show of itself. */
const nothing = computed(() => all.value.find((each) => each.value === '' || each.value === null)?.label)
const grouped = computed(() => all.value.some((each) => each.group))
const shown = computed(() => {
  if (!grouped.value) return all.value
  const names = [...new Set(all.value.map((each) => each.group ?? ''))]
  return names.map((label) => ({ label, items: all.value.filter((each) => (each.group ?? '') === label) }))
})
const host = ref<{ $el: HTMLElement }>()
const around = ref('')
onMounted(() => {
  const label = host.value?.$el.closest('label')
  const words = [...(label?.childNodes ?? [])].filter((each) => !each.contains(host.value?.$el ?? null))
  around.value = words
    .map((each) => each.textContent?.trim() ?? '')
    .join(' ')
    .trim()
})
</script>

<template>
  <Select
    ref="host"
    :model-value="modelValue"
    :options="shown"
    option-label="label"
    option-value="value"
    :option-group-label="grouped ? 'label' : undefined"
    :option-group-children="grouped ? 'items' : undefined"
    :filter="all.length > SEARCHED"
    auto-filter-focus
    reset-filter-on-hide
    :virtual-scroller-options="all.length > DRAWN && !grouped ? { itemSize: HEIGHT } : undefined"
    :aria-label="label || around || undefined"
    :placeholder="placeholder ?? nothing"
    :disabled="disabled"
    scroll-height="360px"
    size="small"
    @update:model-value="emit('update:modelValue', $event)"
  >
    <template #option="{ option }">
      <span class="option" v-tip="(option as Option).hint">{{ (option as Option).label }}</span>
    </template>
  </Select>
</template>
