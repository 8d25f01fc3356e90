<script setup lang="ts">
import Select from 'primevue/select'
import { computed, ref } from 'vue'
import { count } from '../state/format'
import { useProject } from '../state/project'
import { useView } from '../state/view'
import SparkLine from './SparkLine.vue'

/** The series that is looked at, found by its name among however many there are. */
const store = useProject()
const view = useView()
const series = computed(() => store.dataset?.series ?? [])
const current = computed(() => series.value[view.series])
const select = ref<{ hide: (focus?: boolean) => void; focusedOptionIndex: number }>()
/** Enter takes the first that is found, unless arrows have moved to another. */
function take(event: KeyboardEvent) {
  if (event.key !== 'Enter' || !select.value || select.value.focusedOptionIndex >= 0) return
  const word = (event.target as HTMLInputElement).value.toLowerCase()
  const found = options.value.find((each) => each.key.toLowerCase().includes(word))
  if (found) view.series = found.index
  select.value.hide(true)
}
const options = computed(() => series.value.map((each, index) => ({ ...each, index })))
</script>

<template>
  <div class="picker">
    <Select
      ref="select"
      v-model="view.series"
      class="name"
      :options="options"
      option-label="key"
      option-value="index"
      filter
      auto-filter-focus
      reset-filter-on-hide
      empty-filter-message="No series has this in its name."
      scroll-height="400px"
      :virtual-scroller-options="options.length > 60 ? { itemSize: 28 } : undefined"
      :aria-label="`Series ${view.key}`"
      :pt="{
        pcFilter: {
          root: { 'aria-label': 'Search series', placeholder: 'Search series', onKeydown: take },
        },
        overlay: { style: 'min-width: 320px' },
      }"
    >
      <template #value>
        <b v-tip="`Series ${view.key}; , and . step`">{{ view.key }}</b>
        <span class="number second">{{ view.series + 1 }} / {{ count(series.length) }}</span>
        <SparkLine v-if="current" :values="current.spark" />
      </template>
      <template #option="{ option }">
        <span class="row">
          <span>{{ option.key }}</span>
          <SparkLine :values="option.spark" />
          <span class="number second">{{ count(option.length) }}</span>
        </span>
      </template>
    </Select>
    <button class="button quiet" aria-label="Previous series" @click="view.moveSeries(-1)">‹</button>
    <button class="button quiet" aria-label="Next series" @click="view.moveSeries(1)">›</button>
  </div>
</template>

<style scoped>
.picker {
  display: flex;
  align-items: center;
  border-left: 1px solid var(--hairline);
  padding-left: 6px;
}
.name {
  border-color: transparent;
  background: none;
}
.name :deep(.p-select-label) {
  display: flex;
  gap: 8px;
  align-items: center;
}
.name b {
  max-width: 150px;
  overflow: hidden;
  text-overflow: ellipsis;
  font-weight: 600;
}
.row {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 60px 64px;
  gap: 8px;
  width: 100%;
}
.row span:last-child {
  text-align: right;
}
</style>
