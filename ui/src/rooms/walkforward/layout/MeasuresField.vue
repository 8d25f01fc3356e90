<script setup lang="ts">
import MultiSelect from 'primevue/multiselect'
import { computed } from 'vue'
import { useProject } from '../../../state/project'
import { explained } from '../measures'

/** Which error measures stand on the board, in which order; skill is told by the first that can. */
const props = defineProps<{ modelValue: string[] }>()
const emit = defineEmits<{ 'update:modelValue': [names: string[]] }>()
const store = useProject()
const known = computed(() => Object.values(store.catalogue?.metrics ?? {}))
/** Measures of other levels than those offered are kept. */
const options = computed(() => [
  ...known.value.map((each) => ({ name: each.name, title: each.title, hint: explained(each) })),
  ...props.modelValue
    .filter((name) => !known.value.some((each) => each.name === name))
    .map((name) => ({ name, title: name.replace('_', ' '), hint: '' })),
])
</script>

<template>
  <MultiSelect
    :model-value="modelValue"
    :options="options"
    option-label="title"
    option-value="name"
    aria-label="Error measures"
    placeholder="choose at least one"
    filter
    auto-filter-focus
    reset-filter-on-hide
    :show-toggle-all="false"
    scroll-height="360px"
    size="small"
    @update:model-value="emit('update:modelValue', $event as string[])"
  >
    <template #option="{ option }">
      <span v-tip="option.hint" class="option">{{ option.title }}</span>
    </template>
  </MultiSelect>
</template>
