<script setup lang="ts">
import { computed } from 'vue'
import type { Shapes } from '../../api/client'
import ChoiceField from '../../widgets/ChoiceField.vue'
import DuelFacts from './DuelFacts.vue'
import SealPart from './SealPart.vue'

/** What to mind about an entrant, how it fares on sealed folds, and in a duel with another. */
const props = defineProps<{
  experiment: Shapes['ExperimentView']
  contender: string
  entrants: string[]
  deceptions: Shapes['DeceptionView'][]
  duel: Shapes['DuelView'] | null
  metric?: string
}>()
const opponent = defineModel<string>('opponent', { required: true })
const minded = computed(() => props.deceptions.filter((each) => each.contender === props.contender))
const opponents = computed(() => [
  { value: '', label: 'nobody' },
  ...props.entrants.filter((name) => name !== props.contender),
])
</script>

<template>
  <p v-for="each in minded" :key="each.kind" class="minded">
    <b>{{ each.title }}</b> {{ each.text }}
  </p>
  <SealPart
    v-if="experiment.sealed.length"
    :experiment="experiment"
    :contender="contender"
    :metric="metric"
  />
  <label v-if="entrants.length > 1" class="against">
    <span class="second">in a duel with</span>
    <ChoiceField v-model="opponent" :options="opponents" />
  </label>
  <DuelFacts v-if="duel" :duel="duel" :contenders="experiment.contenders" />
</template>

<style scoped>
.minded {
  margin: 0;
  padding-left: 8px;
  border-left: 2px solid var(--worse);
}
.minded b::first-letter {
  text-transform: uppercase;
}
.against {
  display: flex;
  align-items: center;
  gap: 8px;
  white-space: nowrap;
}
.against :deep(.p-select) {
  flex: 1;
}
</style>
