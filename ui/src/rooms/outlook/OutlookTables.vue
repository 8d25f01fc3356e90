<script setup lang="ts">
import { computed, ref } from 'vue'
import { useProject } from '../../state/project'
import ChoiceField from '../../widgets/ChoiceField.vue'
import StepTable from './StepTable.vue'
import TotalTable from './TotalTable.vue'
import type { Shown } from './useOutlook'
import type { Scenarios } from './useScenarios'

/** What is expected step by step, or summed up over days, months, all steps; scenarios beside it. */
const props = defineProps<{ shown: Shown; scenarios: Scenarios }>()
const store = useProject()
const { made, drawn, chance, level, picked, decimals } = props.shown
const SPANS = ['each step', 'day', 'week', 'month', 'all steps'] as const
const HOW = ['sum', 'mean', 'max', 'min', 'last'] as const
const by = ref<(typeof SPANS)[number]>('each step')
const how = ref<(typeof HOW)[number]>('sum')
const together = ref(false)
const apart = ref(false)
const several = computed(() => (store.dataset?.series.length ?? 1) > 1)
const span = computed(() => (by.value === 'all steps' ? null : `1 ${by.value}`))
</script>

<template>
  <div class="tables panel">
    <div class="bar" role="group" aria-label="What the table tells">
      <ChoiceField v-model="by" class="inline" label="Told by" :options="SPANS" :disabled="!drawn" />
      <template v-if="by !== 'each step'">
        <ChoiceField v-model="how" class="inline" label="Summed up as" :options="HOW" />
        <label v-if="several"><input v-model="together" type="checkbox" /> all series together</label>
        <label v-tip="'The range it would have if errors had nothing to do with each other'"
          ><input v-model="apart" type="checkbox" /> beside independent errors</label
        >
      </template>
      <span class="second">{{
        by === 'each step' ? '' : 'Ranges of totals come from joint paths, not from adding ranges.'
      }}</span>
    </div>
    <StepTable
      v-if="made && by === 'each step'"
      :outlook="made"
      :chance="chance"
      :level="level"
      :decimals="decimals"
      :picked="picked"
      :beside="scenarios.beside.value"
      @pick="picked = $event"
    />
    <TotalTable
      v-else-if="made"
      :outlook="made"
      :by="span"
      :how="how"
      :together="together && several"
      :apart="apart"
      :decimals="decimals"
      :beside="scenarios.beside.value"
    />
  </div>
</template>

<style scoped>
.tables {
  display: flex;
  flex-direction: column;
  min-height: 0;
}
.bar {
  flex: none;
  display: flex;
  gap: 8px;
  align-items: center;
  padding: 4px 8px;
  white-space: nowrap;
  overflow: hidden;
}
.inline {
  height: 22px;
}
</style>
