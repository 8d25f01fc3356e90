<script setup lang="ts">
import { computed } from 'vue'
import HeatChart from '../../charts/HeatChart.vue'
import PlotChart from '../../charts/PlotChart.vue'
import type { Shapes } from '../../api/client'
import { fixed, signed } from '../../state/format'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import AnswerNote from '../../widgets/AnswerNote.vue'
import DataGrid from '../../widgets/DataGrid.vue'
import type { GridColumn } from '../../widgets/grid'
import CriteriaGrid from './CriteriaGrid.vue'
import { costPlot, learningPlot, slotName, spreadPlot, weekRows } from './glance'
import { useBreakdown, type ViewBy } from './useGlance'
import type { BoardManner, BoardRow } from './useExperiment'

/** The board's numbers from another side: by fold, step, series or calendar, against cost, and inside against after. */
const props = defineProps<{
  glance: string
  experiment: Shapes['ExperimentView']
  rows: BoardRow[]
  shown: Set<string>
  selected: string
  manner: BoardManner
  fold: number | null
}>()
const emit = defineEmits<{ select: [name: string] }>()
const store = useProject()
const view = useView()
const BY: Record<string, ViewBy> = {
  fold: 'fold', step: 'step', series: 'series', calendar: 'slot', week: 'hour_of_week', learning: 'fold',
  spread: 'series',
} // prettier-ignore
const id = computed(() => props.experiment.id)
const answer = useBreakdown(
  id,
  () => BY[props.glance] ?? null,
  () => props.manner,
)
const found = computed(() => answer.data.value)
type Line = { label: string; place: number; errors: (number | null)[]; skill: (number | null)[] }
const lines = computed<Line[]>(() =>
  (found.value?.labels ?? []).map((label, place) => ({
    label,
    place,
    errors: (found.value?.errors ?? []).map((row) => row[place] ?? null),
    skill: (found.value?.skill ?? []).map((row) => row[place] ?? null),
  })),
)
const NAMES: Record<string, string> = {
  fold: 'fold',
  step: 'steps ahead',
  series: 'series',
  calendar: 'slot',
}
const columns = computed<GridColumn<Line>[]>(() => [
  {
    name: 'label',
    title: NAMES[props.glance] ?? '',
    value: (line) => (props.glance === 'series' ? line.label : line.place),
    text: (line) => (props.glance === 'calendar' ? slotName(line.label) : line.label),
    words: props.glance === 'series',
    frozen: true,
  },
  ...(found.value?.names ?? []).map((name, i): GridColumn<Line> => ({
    name,
    title: name,
    value: (line) => line.errors[i] ?? null,
    text: (line) => fixed(line.errors[i], (line.errors[i] ?? 0) >= 1000 ? 0 : 3),
    className: (line) =>
      (line.skill[i] ?? 0) > 0.005 ? 'better' : (line.skill[i] ?? 0) < -0.005 ? 'worse' : '',
    tip: (line) => `skill ${signed(line.skill[i])}`,
  })),
])
/** What is shown of a line leads to where it lies. */
function go(line: Line) {
  if (props.glance === 'fold') {
    const fold = props.experiment.folds[line.place]
    if (fold) view.setCutoff(fold.cutoff, true)
  }
  if (props.glance === 'series') {
    const at = store.dataset?.series.findIndex((each) => each.key === line.label) ?? -1
    if (at >= 0) view.series = at
  }
}
const here = computed(() =>
  props.glance === 'fold' && props.fold !== null
    ? String(props.fold + 1)
    : props.glance === 'series'
      ? view.key
      : null,
)
const names = computed(() => props.experiment.contenders)
const cost = computed(() => costPlot(props.rows, names.value, props.shown))
const plot = computed(() =>
  props.glance === 'spread'
    ? spreadPlot(found.value, names.value, props.shown)
    : learningPlot(found.value, names.value, props.shown, props.experiment.folds),
)
const week = computed(() => weekRows(found.value, props.selected))
const measure = computed(() => found.value?.metric.title ?? '')
</script>

<template>
  <section class="glance panel">
    <AnswerNote
      v-if="BY[glance] && (answer.loading.value || answer.failure.value)"
      :answer="answer"
      what="the breakdown"
    />
    <PlotChart
      v-if="glance === 'cost'"
      class="plot"
      title="Skill against cost"
      x-label="seconds of all its cells"
      y-label="skill"
      :series="cost"
      log-x
      labelled
      @pick="(_, label) => emit('select', label)"
    />
    <CriteriaGrid v-else-if="glance === 'criteria'" :experiment="experiment" :fold="fold ?? 0" />
    <HeatChart
      v-else-if="glance === 'week'"
      :title="`Skill of ${selected} by hour and weekday`"
      :rows="week"
      :columns="Array.from({ length: 24 }, (_, i) => String(i))"
    />
    <PlotChart
      v-else-if="glance === 'spread' || glance === 'learning'"
      class="plot"
      :title="
        glance === 'spread' ? 'Skill over series, worst to best' : `${measure} by what was learned from`
      "
      :x-label="glance === 'spread' ? '% of series' : 'steps learned from'"
      :y-label="glance === 'spread' ? 'skill' : measure"
      :series="plot"
      labelled
    />
    <DataGrid
      v-else-if="found"
      :label="`${measure} by ${NAMES[glance]}`"
      :rows="lines"
      :columns="columns"
      :key-of="(line) => line.label"
      :selected="here"
      @select="go"
    />
    <slot />
  </section>
</template>

<style scoped>
.glance {
  display: flex;
  flex-direction: column;
  min-height: 0;
}
.plot {
  flex: 0 0 210px;
}
.glance > :deep(figure) {
  margin: 6px 12px 0;
}
</style>
