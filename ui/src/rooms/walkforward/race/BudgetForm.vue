<script setup lang="ts">
import { computed } from 'vue'
import NumberField from '../../../widgets/NumberField.vue'
import type { Budget } from './useSearch'

/** What a search may spend: seconds, fits, or both; a fit that takes too long is stopped. */
const budget = defineModel<Budget>({ required: true })
defineProps<{ disabled?: boolean }>()
const change = (what: Partial<Budget>) => (budget.value = { ...budget.value, ...what })
const usual = computed(() =>
  budget.value.seconds ? `${Math.max(Math.round(budget.value.seconds / 5), 2)}` : '60',
)
</script>

<template>
  <div class="budget">
    <label v-tip="'How long it may take, over all workers.'"
      ><span class="second">Seconds</span
      ><NumberField
        :model-value="budget.seconds"
        :min="1"
        whole
        label="Seconds"
        @update:model-value="change({ seconds: $event })"
    /></label>
    <label
      v-tip="
        'Candidates learned at a fold: with a budget in fits the same is found again, to the last digit.'
      "
      ><span class="second">Fits</span
      ><NumberField
        :model-value="budget.fits"
        :min="1"
        whole
        label="Fits"
        placeholder="any"
        @update:model-value="change({ fits: $event })"
    /></label>
    <label v-tip="'What takes longer is stopped, and its family left.'"
      ><span class="second">Seconds a fit</span
      ><NumberField
        :model-value="budget.limit"
        :min="1"
        label="Seconds a fit"
        :placeholder="usual"
        @update:model-value="change({ limit: $event })"
    /></label>
  </div>
</template>

<style scoped>
.budget {
  display: grid;
  gap: 4px;
}
label {
  display: grid;
  grid-template-columns: 96px minmax(0, 1fr);
  align-items: center;
}
</style>
