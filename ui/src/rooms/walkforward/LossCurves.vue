<script setup lang="ts">
import { computed } from 'vue'
import type { Shapes } from '../../api/client'
import type { PlotSeries } from '../../charts/plot'
import PlotChart from '../../charts/PlotChart.vue'
import { useProject } from '../../state/project'

/** How trainings went: of the fold that is looked at, and of the one that is being computed, while it learns. */
const props = defineProps<{
  experiment: number
  contender: string
  facts: Shapes['FactsView'] | null | undefined
}>()
const store = useProject()

function line(
  label: string,
  y: (number | null)[],
  color: string,
  more: Partial<PlotSeries> = {},
): PlotSeries {
  return { label, kind: 'line', x: y.map((_, i) => i + 1), y, color, ...more }
}
const done = computed<PlotSeries[]>(() => {
  const facts = props.facts
  if (!facts?.loss?.length) return []
  return [
    ...facts.other_losses.map((each, i) =>
      line(i ? '' : 'held out, other repeats', each, 'var(--ink-3)', { dash: [1, 2] }),
    ),
    line('learned', facts.loss, 'var(--ink)'),
    line('held out', facts.validation_loss ?? [], 'var(--c1)', { dash: [4, 2] }),
  ]
})
const marks = computed(() => {
  const kept = props.facts?.kept_epoch
  return kept ? [{ x: kept, label: 'kept' }] : []
})
const live = computed(() => {
  const told = store.progress[props.experiment]
  const running = store.running.some((each) => each.kind === 'experiment' && each.id === props.experiment)
  return running && told?.contender === props.contender && told.epochs?.length ? told : null
})
const growing = computed<PlotSeries[]>(() => {
  const told = live.value
  if (!told) return []
  return [
    line('learned', told.learned, 'var(--ink)', { x: told.epochs }),
    ...(told.held_out.length
      ? [line('held out', told.held_out, 'var(--c1)', { x: told.epochs, dash: [4, 2] })]
      : []),
  ]
})
</script>

<template>
  <PlotChart
    v-if="live"
    class="picture"
    :title="`Learning now, fold ${(live.fold ?? 0) + 1}: ${live.about}`"
    x-label="epoch"
    :series="growing"
    labelled
  />
  <PlotChart
    v-if="done.length"
    class="picture"
    title="Loss by epoch, flat units"
    x-label="epoch"
    :series="done"
    :marks="marks"
    labelled
  />
</template>

<style scoped>
.picture {
  flex: 0 0 190px;
}
</style>
