<script setup lang="ts">
import { computed } from 'vue'
import type { Shapes } from '../../api/client'
import HeatChart from '../../charts/HeatChart.vue'
import type { PlotSeries } from '../../charts/plot'
import PlotChart from '../../charts/PlotChart.vue'
import { fixed, signed } from '../../state/format'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import { markOf } from '../../theme/theme'
import FactList from '../../widgets/FactList.vue'
import { slotName } from './glance'

/** What a duel comes to: its test, by steps ahead, by series, and where in the calendar each of the two wins. */
const props = defineProps<{ duel: Shapes['DuelView']; contenders: { name: string; family: string }[] }>()
const store = useProject()
const view = useView()
const SURE = 0.05
const p = (value: number | null) => (value === null ? '–' : value < 0.001 ? 'under 0.001' : fixed(value, 3))
const color = computed(() => markOf(props.contenders, props.duel.one).css)
const sure = computed(() => {
  const told = props.duel.steps.filter((each) => each.test.p_value !== null)
  const won = told.filter((each) => (each.test.p_value ?? 1) < SURE)
  return told.length ? `${won.length} of ${told.length}` : '–'
})
const bySteps = computed<PlotSeries[]>(() => {
  const x = props.duel.steps.map((each) => each.ahead)
  if (x.length < 2) return []
  return [
    { label: 'p', kind: 'line', x, y: props.duel.steps.map((each) => each.test.p_value), color: color.value },
    {
      label: '0.05',
      kind: 'line',
      x,
      y: x.map(() => SURE),
      color: 'var(--ink-3)',
      dash: [4, 2],
      still: true,
    },
  ]
})
/** The share of the other's error that is saved; none where it has none. */
const saved = (each: Shapes['PairView']) =>
  each.one === null || !each.other ? null : 1 - each.one / each.other
const slots = computed(() => props.duel.by_slot.filter((each) => each.one !== null))
const slotNames = computed(() => slots.value.map((each) => slotName(each.label)))
const slotTitle = computed(() => (slots.value[0]?.label ?? '').replace(/ .*/, '').replaceAll('_', ' '))
const scatter = computed<PlotSeries[]>(() => {
  const told = props.duel.by_series.filter((each) => each.one !== null && each.other !== null)
  if (told.length < 2) return []
  const most = Math.max(...told.flatMap((each) => [each.one ?? 0, each.other ?? 0]))
  return [
    { label: 'alike', kind: 'line', x: [0, most], y: [0, most], color: 'var(--ink-3)', still: true },
    {
      label: 'series',
      kind: 'points',
      x: told.map((each) => each.other ?? 0),
      y: told.map((each) => each.one),
      color: color.value,
    },
  ]
})
const won = computed(() => {
  const told = props.duel.by_series.map(saved).filter((each) => each !== null)
  return `${told.filter((each) => each > 0).length} of ${told.length}`
})
function pick(place: number, label: string) {
  if (label !== 'series') return
  const told = props.duel.by_series.filter((each) => each.one !== null && each.other !== null)
  const at = store.dataset?.series.findIndex((each) => each.key === told[place]?.label) ?? -1
  if (at >= 0) view.series = at
}
</script>

<template>
  <p class="sentence" role="status">{{ duel.sentence }}</p>
  <FactList
    :facts="[
      { name: `of the ${duel.metric.title} saved`, value: signed(duel.skill) },
      duel.skill_low !== null && {
        name: '95 % interval',
        value: `${signed(duel.skill_low)} … ${signed(duel.skill_high)}`,
        hint: `drawn from ${duel.resampled}`,
      },
      {
        name: 'difference test',
        value: `p ${p(duel.test.p_value)}`,
        hint: `Diebold & Mariano, statistic ${fixed(duel.test.statistic, 2)} with ${duel.test.degrees} degrees of freedom over ${duel.test.observations} origins; the textbook's, for losses independent beyond the horizon: p ${p(duel.test.textbook_p_value)}`,
      },
      duel.steps.length > 1 && { name: 'steps ahead that differ', value: sure },
      duel.by_series.length > 1 && { name: 'better on series', value: won },
    ]"
  />
  <PlotChart
    v-if="bySteps.length"
    class="picture"
    title="p by steps ahead"
    x-label="steps ahead"
    :series="bySteps"
    from-zero
  />
  <PlotChart
    v-if="scatter.length"
    class="picture"
    :title="`${duel.metric.title} by series`"
    :x-label="duel.other"
    :y-label="duel.one"
    :series="scatter"
    from-zero
    @pick="pick"
  />
  <HeatChart
    v-if="slots.length > 1"
    :title="`Who wins when: by ${slotTitle}`"
    :rows="[{ label: duel.one, values: slots.map(saved), css: color }]"
    :columns="slotNames"
  />
</template>

<style scoped>
.sentence {
  margin: 0;
}
.picture {
  flex: 0 0 170px;
}
</style>
