<script setup lang="ts">
import { computed } from 'vue'
import { client, unwrap, type Shapes } from '../../api/client'
import type { PlotSeries } from '../../charts/plot'
import PlotChart from '../../charts/PlotChart.vue'
import { useAnswer } from '../../state/answers'
import { count, fixed, number } from '../../state/format'
import { useView } from '../../state/view'
import AnswerNote from '../../widgets/AnswerNote.vue'
import FactList from '../../widgets/FactList.vue'

/** Whether an entrant's ranges hold what they say: by level, by step ahead, and how truths fall between their ends. */
const props = defineProps<{ experiment: number; contender: string; gap: number; color: string }>()
const view = useView()
const answer = useAnswer(
  'calibration',
  () => ({
    params: { path: { experiment_id: props.experiment }, query: { contender: props.contender } },
  }),
  (asked, signal): Promise<Shapes['CalibrationView']> =>
    unwrap(client.GET('/api/v1/experiments/{experiment_id}/calibration', { ...asked, signal })),
  { aside: true },
)
const found = answer.data
const percent = (share: number | null | undefined) => (share == null ? null : share * 100)
const reliability = computed<PlotSeries[]>(() => {
  const told = found.value
  if (!told) return []
  const x = told.levels.map((each) => each * 100)
  return [
    { label: 'as it should', kind: 'line', x: [0, 100], y: [0, 100], color: 'var(--ink-3)', still: true },
    { label: 'held', kind: 'line', x, y: told.covered.map(percent), color: props.color },
    { label: 'held', kind: 'points', x, y: told.covered.map(percent), color: props.color },
  ]
})
const bySteps = computed<PlotSeries[]>(() =>
  (found.value?.by_step ?? []).map((held, i) => ({
    label: `${fixed((found.value?.levels[i] ?? 0) * 100, 0)} %`,
    kind: 'line',
    x: held.map((_, step) => props.gap + step + 1),
    y: held.map(percent),
    color: `var(--c${i + 1})`,
  })),
)
/** Bins of unlike width: each is called by the shares it lies between. */
const bins = computed(() =>
  (found.value?.edges ?? [])
    .slice(1)
    .map((to, i) => `${number((found.value?.edges[i] ?? 0) * 100)}–${number(to * 100)}`),
)
const density = computed<PlotSeries[]>(() => {
  const y = found.value?.density ?? []
  const x = y.map((_, i) => i)
  return [
    { label: 'truths', kind: 'bars', x, y, color: props.color },
    { label: 'as it should', kind: 'line', x, y: y.map(() => 1), color: 'var(--ink-3)', still: true },
  ]
})
const facts = computed(() =>
  (found.value?.levels ?? []).map((level, i) => ({
    name: `${fixed(level * 100, 0)} %`,
    value: `held ${fixed(percent(found.value?.covered[i]), 1)} %, ${number(found.value?.widths[i] ?? null)} ${view.unit} wide`,
    hint: `of ${count(found.value?.points)} points`,
  })),
)
</script>

<template>
  <AnswerNote :answer="answer" what="ranges" />
  <div v-if="found" class="calibration">
    <FactList :facts="facts" />
    <PlotChart class="picture" title="Held, by level, %" x-label="level, %" :series="reliability" from-zero />
    <PlotChart
      v-if="(bySteps[0]?.x.length ?? 0) > 1"
      class="picture"
      title="Held, by steps ahead, %"
      x-label="steps ahead"
      :series="bySteps"
      labelled
    />
    <PlotChart
      class="picture"
      title="Truths between the ends of ranges, 1 is right"
      x-label="share that is to lie below, %"
      :series="density"
      :names="bins"
      from-zero
    />
  </div>
</template>

<style scoped>
.calibration {
  display: grid;
  grid-template-columns: minmax(0, 1fr);
  gap: 12px;
}
.picture {
  flex: 0 0 170px;
  height: 170px;
}
</style>
