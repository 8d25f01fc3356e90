<script setup lang="ts">
import { computed } from 'vue'
import { client, unwrap, type Shapes } from '../../api/client'
import type { PlotSeries } from '../../charts/plot'
import PlotChart from '../../charts/PlotChart.vue'
import { fixed } from '../../state/format'
import { useProject } from '../../state/project'
import DataGrid from '../../widgets/DataGrid.vue'
import type { GridColumn } from '../../widgets/grid'
import { useProfilePart } from './useProfile'

/** How far a series remembers: correlograms, and the periods in it. */
const store = useProject()
const { data: memory, busy } = useProfilePart<Shapes['MemoryView']>('memory', ({ params, body, signal }) =>
  unwrap(
    client.POST('/api/v1/datasets/{dataset_id}/series/{series}/profile/memory', { params, body, signal }),
  ),
)
function bars(values: (number | null)[] | undefined, label: string, bounds: (number | null)[]): PlotSeries[] {
  const all = (values ?? []).slice(1)
  const x = all.map((_, i) => i + 1)
  const season = memory.value?.season ?? 1
  const marked = season > 1 ? x.filter((lag) => lag % season === 0).map((lag) => lag - 1) : []
  const edge = bounds.slice(1, all.length + 1)
  return [
    { label, x, y: all, kind: 'bars', color: 'var(--ink-2)', marked },
    { label: 'bound', x, y: edge, kind: 'line', color: 'var(--ink-3)', dash: [4, 3] },
    {
      label: 'lower bound',
      x,
      y: edge.map((v) => (v === null ? null : -v)),
      kind: 'line',
      color: 'var(--ink-3)',
      dash: [4, 3],
    },
  ]
}
const correlations = computed(() => bars(memory.value?.acf, 'lag', memory.value?.bartlett ?? []))
const partial = computed(() =>
  bars(
    memory.value?.pacf,
    'lag',
    (memory.value?.pacf ?? []).map(() => memory.value?.bound ?? null),
  ),
)
const spectrum = computed<PlotSeries[]>(() =>
  memory.value
    ? [
        {
          label: 'period',
          x: memory.value.spectrum_period,
          y: memory.value.spectrum_power,
          kind: 'line',
          color: 'var(--c1)',
        },
      ]
    : [],
)
const PERIODS: GridColumn<Shapes['MemoryView']['candidates'][number]>[] = [
  { name: 'name', title: 'period', value: (each) => each.name, words: true },
  {
    name: 'steps',
    title: 'long',
    value: (each) => each.period,
    text: (each) => store.axis?.steps(each.period) ?? '',
  },
  {
    name: 'share',
    title: 'of power',
    value: (each) => each.share,
    text: (each) => `${fixed(each.share * 100, 1)} %`,
  },
  {
    name: 'correlation',
    title: 'correlation',
    value: (each) => each.correlation,
    text: (each) => fixed(each.correlation, 2),
  },
]
const marks = computed(() =>
  (memory.value?.candidates ?? []).map((each) => ({ x: each.period, label: each.name })),
)
</script>

<template>
  <div class="grid" :aria-busy="busy">
    <div class="panel cell">
      <PlotChart
        title="autocorrelation"
        note="seasonal lags in colour, dashed: Bartlett’s bounds"
        :series="correlations"
        x-label="lag, steps"
      />
    </div>
    <div class="panel cell">
      <PlotChart
        title="partial autocorrelation"
        note="dashed: white-noise bounds"
        :series="partial"
        x-label="lag, steps"
      />
    </div>
    <div class="panel cell">
      <PlotChart
        title="periodogram, share of power"
        :series="spectrum"
        :marks="marks"
        log-x
        from-zero
        x-label="period, steps"
      />
    </div>
    <div class="panel cell found">
      <h2>Periods found</h2>
      <DataGrid
        v-if="memory?.candidates.length"
        label="Periods found"
        :rows="memory.candidates"
        :columns="PERIODS"
        :key-of="(each) => each.period"
      />
      <p v-else class="second">
        No period stands out: a peak of the periodogram must exceed what noise reaches once in a hundred
        series, and the autocorrelation must agree.
      </p>
    </div>
  </div>
</template>

<style scoped>
.grid {
  flex: 1;
  min-height: 0;
  display: grid;
  grid-template: 1fr 1fr / 1fr 1fr;
  gap: 6px;
}
.cell {
  padding: 8px 10px;
  display: flex;
}
.cell > figure {
  flex: 1;
}
.found {
  flex-direction: column;
  gap: 8px;
  overflow: auto;
}
</style>
