<script setup lang="ts">
import { computed } from 'vue'
import { client, unwrap, type Shapes } from '../../api/client'
import type { PlotSeries } from '../../charts/plot'
import PlotChart from '../../charts/PlotChart.vue'
import { fixed, number } from '../../state/format'
import { useProfilePart, useShownUnit } from './useProfile'

/** How values are distributed, whether spread follows level, and how a value follows an earlier one. */
const unit = useShownUnit()
const { data: shape, busy } = useProfilePart<Shapes['ShapeView']>('shape', ({ params, body, signal }) =>
  unwrap(
    client.POST('/api/v1/datasets/{dataset_id}/series/{series}/profile/shape', {
      params,
      body: { ...body, lags: [] },
      signal,
    }),
  ),
)
const histogram = computed<PlotSeries[]>(() => {
  const now = shape.value
  if (!now) return []
  const x = now.edges.slice(0, -1).map((edge, i) => (edge + (now.edges[i + 1] as number)) / 2)
  return [
    { label: 'points around', x, y: now.counts, kind: 'bars', color: 'var(--ink-3)' },
    { label: 'normal', x, y: now.normal, kind: 'line', color: 'var(--c4)', dash: [5, 3] },
  ]
})
function line(x: number[], slope: number, middle: number): PlotSeries {
  const ends = [Math.min(...x), Math.max(...x)]
  return {
    label: 'normal',
    x: ends,
    y: ends.map((at) => middle + slope * at),
    kind: 'line',
    color: 'var(--c4)',
    dash: [5, 3],
  }
}
const quantiles = computed<PlotSeries[]>(() => {
  const now = shape.value
  if (!now?.quantiles.length) return []
  const size = now.quantiles.length
  const low = Math.floor(size / 4)
  const high = Math.floor((3 * size) / 4)
  const at = (values: number[], i: number) => values[i] as number
  const slope =
    (at(now.quantiles, high) - at(now.quantiles, low)) /
    (at(now.quantiles_normal, high) - at(now.quantiles_normal, low) || 1)
  const middle = at(now.quantiles, low) - slope * at(now.quantiles_normal, low)
  return [
    line(now.quantiles_normal, slope, middle),
    { label: 'quantile', x: now.quantiles_normal, y: now.quantiles, kind: 'points', color: 'var(--ink)' },
  ]
})
const spread = computed<PlotSeries[]>(() =>
  shape.value?.level.length
    ? [
        {
          label: 'block of mean',
          x: shape.value.level,
          y: shape.value.spread,
          kind: 'points',
          color: 'var(--c1)',
        },
      ]
    : [],
)
const plots = computed(() =>
  (shape.value?.lag_plots ?? []).map((each) => ({
    title: `${each.lag} ${each.lag === 1 ? 'step' : 'steps'} before`,
    note: `correlation ${fixed(each.correlation, 2)}`,
    lag: each.lag,
    series: [
      { label: 'after', x: each.earlier, y: each.later, kind: 'points', color: 'var(--c3)' },
    ] as PlotSeries[],
  })),
)
</script>

<template>
  <div class="grid" :aria-busy="busy">
    <div class="panel cell">
      <PlotChart
        title="distribution"
        note="dashed: normal of the same mean and spread"
        :series="histogram"
        :x-label="unit"
      />
    </div>
    <div class="panel cell">
      <PlotChart
        title="quantiles against the normal’s"
        note="dashed: through the quartiles"
        :series="quantiles"
        :y-label="unit"
      />
    </div>
    <div class="panel cell">
      <PlotChart
        :title="`spread against level, ${shape?.block ?? ''} steps`"
        :note="shape?.exponent == null ? '' : `Box–Cox λ ${number(shape.exponent, 2)}`"
        :series="spread"
        from-zero
        x-label="level"
      />
    </div>
    <p class="second verdict">{{ shape?.verdict }}</p>
    <div v-for="plot in plots" :key="plot.lag" class="panel cell lag">
      <PlotChart :title="plot.title" :note="plot.note" :series="plot.series" :x-label="unit" />
    </div>
  </div>
</template>

<style scoped>
.grid {
  flex: 1;
  min-height: 0;
  display: grid;
  grid-template: minmax(0, 1fr) auto minmax(0, 1fr) / repeat(12, minmax(0, 1fr));
  gap: 6px;
}
.cell {
  grid-column: span 4;
  padding: 8px 10px;
  display: flex;
}
.cell > figure {
  flex: 1;
}
.lag {
  grid-column: span 3;
}
.verdict {
  grid-column: 1 / -1;
  margin: 0;
  text-align: right;
}
</style>
