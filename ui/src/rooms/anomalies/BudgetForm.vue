<script setup lang="ts">
import { ref, watch } from 'vue'
import type { Shapes } from '../../api/client'
import ChoiceField from '../../widgets/ChoiceField.vue'
import NumberField from '../../widgets/NumberField.vue'
import type { Scanning } from './useScan'

/** How many flags are wanted, or above which evidence. */
const props = defineProps<{ scanning: Scanning }>()
const { scan, found } = props.scanning
type Unit = 'per_week' | 'per_thousand' | 'threshold' | 'usual'
const UNITS: { value: Unit; label: string }[] = [
  { value: 'usual', label: 'as usual' },
  { value: 'per_week', label: 'flags a week' },
  { value: 'per_thousand', label: 'flags in 1,000 points' },
  { value: 'threshold', label: 'evidence above' },
]
const unit = ref<Unit>('usual')
const amount = ref<number | null>(null)
/** What was asked for last and is not answered yet: until then an older answer says nothing. */
let asked: Shapes['BudgetBody'] | null = null
const same = (a: Shapes['BudgetBody'], b: Shapes['BudgetBody']) =>
  (['per_week', 'per_thousand', 'threshold', 'over'] as const).every(
    (each) => (a[each] ?? null) === (b[each] ?? null),
  )
watch(
  () => scan.value?.budget,
  (budget) => {
    if (!budget || (asked && !same(asked, budget))) return
    asked = null
    const set = (['per_week', 'per_thousand', 'threshold'] as const).find((each) => budget[each] != null)
    unit.value = set ?? 'usual'
    amount.value = set ? Math.round((budget[set] as number) * 1000) / 1000 : null
  },
  { immediate: true },
)
async function budget(changes: { unit?: Unit; amount?: number | null; over?: 'panel' | 'series' }) {
  const next = changes.unit ?? unit.value
  const over = changes.over ?? scan.value?.budget.over ?? 'panel'
  const defaults = {
    per_week: 1,
    per_thousand: 1,
    threshold: Math.round((found.value?.threshold ?? 7) * 10) / 10,
  }
  const value = next === 'usual' ? null : changes.unit ? defaults[next] : (changes.amount ?? amount.value)
  if (next !== 'usual' && !(value && value > 0)) return
  unit.value = next
  amount.value = value
  const none = { per_week: null, per_thousand: null, threshold: null, over }
  const body = next === 'usual' ? none : { ...none, [next]: value }
  asked = body
  if (!(await props.scanning.setBudget(body))) asked = null
}
</script>

<template>
  <label
    >Budget
    <ChoiceField
      :model-value="unit"
      label="Budget"
      :options="UNITS"
      @update:model-value="budget({ unit: $event })"
  /></label>
  <div v-if="scan && unit !== 'usual'" class="pair">
    <NumberField
      :model-value="amount"
      :min="0.001"
      label="How much"
      @update:model-value="budget({ amount: $event })"
    />
    <ChoiceField
      v-if="unit !== 'threshold'"
      :model-value="scan.budget.over ?? 'panel'"
      label="Over what"
      :options="[
        { value: 'panel', label: 'over all series' },
        { value: 'series', label: 'every series' },
      ]"
      @update:model-value="budget({ over: $event })"
    />
  </div>
</template>

<style scoped>
label {
  display: grid;
  gap: 4px;
  color: var(--ink-2);
}
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 8px;
}
.pair > :only-child {
  grid-column: 1 / -1;
}
</style>
