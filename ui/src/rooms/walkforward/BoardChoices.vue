<script setup lang="ts">
import { computed } from 'vue'
import { useProject } from '../../state/project'
import ChoiceField from '../../widgets/ChoiceField.vue'
import NumberField from '../../widgets/NumberField.vue'
import type { BoardManner } from './useExperiment'
import type { ErrorsDrawn } from './useGlance'

/** By which measure skill is told, and what counts alike in every number of the board. */
const props = defineProps<{ manner: BoardManner; measure: string; horizon: number }>()
const glance = defineModel<string>('glance', { required: true })
const errors = defineModel<ErrorsDrawn>('errors', { required: true })
const emit = defineEmits<{ change: [manner: BoardManner] }>()
const store = useProject()
const measures = computed(() =>
  Object.values(store.catalogue?.metrics ?? {})
    .filter((each) => each.tells_skill)
    .map((each) => ({ value: each.name, label: each.title })),
)
const WEIGHTINGS: { value: NonNullable<BoardManner['weighting']>; label: string }[] = [
  { value: 'points', label: 'all points alike' },
  { value: 'series', label: 'all series alike' },
  { value: 'size', label: 'series by size' },
]
const hourly = computed(() => {
  const seconds = store.axis?.grid.seconds
  return Boolean(seconds && seconds <= 3600)
})
const GLANCES = computed(() => [
  { value: 'board', label: 'the board' },
  { value: 'fold', label: 'by fold' },
  { value: 'step', label: 'by steps ahead' },
  ...(many.value
    ? [
        { value: 'series', label: 'by series' },
        { value: 'spread', label: 'skill over series' },
      ]
    : []),
  { value: 'calendar', label: 'by calendar' },
  ...(hourly.value ? [{ value: 'week', label: 'by hour and weekday' }] : []),
  { value: 'learning', label: 'by what was learned from' },
  { value: 'cost', label: 'skill against cost' },
  { value: 'criteria', label: 'criteria inside, rank after' },
])
const ERRORS: { value: ErrorsDrawn['how']; label: string }[] = [
  { value: '', label: 'not drawn' },
  { value: 'signed', label: 'forecast − truth' },
  { value: 'absolute', label: 'without sign' },
]
const many = computed(() => (store.dataset?.series.length ?? 0) > 1)
</script>

<template>
  <div class="choices">
    <label>
      <span class="second">shown</span>
      <ChoiceField v-model="glance" :options="GLANCES" />
    </label>
    <label>
      <span class="second">errors in time</span>
      <ChoiceField
        :model-value="errors.how"
        :options="ERRORS"
        @update:model-value="errors = { ...errors, how: $event }"
      />
    </label>
    <label v-if="errors.how" class="ahead">
      <NumberField
        :model-value="errors.ahead"
        :min="1"
        :max="horizon"
        whole
        label="Steps ahead of the errors drawn"
        placeholder="last"
        @update:model-value="errors = { ...errors, ahead: $event }"
      />
      <span class="second">steps ahead</span>
    </label>
    <label>
      <span class="second">skill by</span>
      <ChoiceField
        :model-value="measure"
        :options="measures"
        @update:model-value="emit('change', { ...props.manner, metric: $event })"
      />
    </label>
    <label v-if="many">
      <span class="second">counting</span>
      <ChoiceField
        :model-value="manner.weighting ?? 'points'"
        :options="WEIGHTINGS"
        @update:model-value="emit('change', { ...props.manner, weighting: $event })"
      />
    </label>
  </div>
</template>

<style scoped>
.choices,
label {
  display: flex;
  align-items: center;
  gap: 8px;
  flex: none;
  white-space: nowrap;
}
.ahead :deep(input) {
  width: 52px;
}
</style>
