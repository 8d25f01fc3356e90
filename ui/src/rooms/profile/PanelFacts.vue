<script setup lang="ts">
import ChoiceField from '../../widgets/ChoiceField.vue'
import { computed } from 'vue'
import type { PlotSeries } from '../../charts/plot'
import PlotChart from '../../charts/PlotChart.vue'
import { chance, count } from '../../state/format'
import { useView } from '../../state/view'
import FactList from '../../widgets/FactList.vue'
import { useFeatures } from './features'

/** Any two features against each other, to pick odd series from; and the one that is picked. */
const view = useView()
const features = useFeatures()
const numeric = computed(() =>
  features.columns.filter(
    (each) =>
      !each.words &&
      (!features.rows.length || features.rows.some((row) => typeof each.value(row) === 'number')),
  ),
)
const axes = computed(() => features.across.map((name) => features.byName.get(name)))
const points = computed(() => {
  const [x, y] = axes.value
  if (!x || !y) return []
  return features.rows
    .map((row) => ({ row, x: x.value(row), y: y.value(row) }))
    .filter((each) => typeof each.x === 'number' && typeof each.y === 'number')
})
const series = computed<PlotSeries[]>(() => [
  {
    label: 'series',
    x: points.value.map((each) => each.x as number),
    y: points.value.map((each) => each.y as number),
    kind: 'points',
    color: 'var(--c1)',
  },
])
const picked = computed(() => {
  const at = points.value.findIndex((each) => each.row.position === view.series)
  return at < 0 ? null : at
})
const row = computed(() => features.rows.find((each) => each.position === view.series))
const ORDER = [
  'unit root',
  'unit root, corrected',
  'stationarity',
  'stationarity around a line',
  'stable season',
  'whiteness',
]
const tests = computed(() => {
  const rank = (name: string) => (ORDER.includes(name) ? ORDER.indexOf(name) : ORDER.length)
  return Object.entries(row.value?.p_values ?? {})
    .map(([name, value]) => ({ name, value }))
    .sort((a, b) => rank(a.name) - rank(b.name))
})
function choose(place: 0 | 1, name: string) {
  features.across = place === 0 ? [name, features.across[1]] : [features.across[0], name]
}
</script>

<template>
  <h1>{{ row?.key ?? view.key }}</h1>
  <p v-if="row" class="sentence">{{ row.verdict }}</p>
  <div class="axes">
    <ChoiceField
      v-for="place in [0, 1] as const"
      :key="place"
      :label="place === 0 ? 'Feature across' : 'Feature upwards'"
      :model-value="features.across[place]"
      @update:model-value="choose(place, $event)"
      :options="numeric.map((each) => each.name)"
    />
  </div>
  <PlotChart
    v-if="points.length"
    class="scatter"
    :title="`${features.across[1]} against ${features.across[0]}`"
    :series="series"
    :picked="picked"
    @pick="view.series = points[$event]?.row.position ?? view.series"
  />
  <p v-if="points.length" class="second sentence">
    {{ count(points.length) }} series; click one to pick it, double click its row to look at it.
  </p>
  <FactList
    v-if="row"
    :facts="tests.map(({ name, value }) => ({ name: `p, ${name}`, value: chance(value) }))"
  />
</template>

<style scoped>
.axes {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 8px;
}
.scatter {
  flex: 0 0 240px;
}
.sentence {
  margin: 0;
}
</style>
