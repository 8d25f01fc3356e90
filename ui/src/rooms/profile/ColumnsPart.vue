<script setup lang="ts">
import { computed, ref } from 'vue'
import { client, unwrap, type Shapes } from '../../api/client'
import type { PlotSeries } from '../../charts/plot'
import PlotChart from '../../charts/PlotChart.vue'
import { fixed } from '../../state/format'
import DataGrid from '../../widgets/DataGrid.vue'
import type { GridColumn } from '../../widgets/grid'
import { useProfilePart } from './useProfile'

/** Which columns go with the series, at which lag, and which say the same. */
const { data: columns, busy } = useProfilePart<Shapes['ColumnsView']>('columns', ({ params, body, signal }) =>
  unwrap(
    client.POST('/api/v1/datasets/{dataset_id}/series/{series}/profile/columns', { params, body, signal }),
  ),
)
const chosen = ref('')
const links = computed(() => columns.value?.links ?? [])
const link = computed(() => links.value.find((each) => each.name === chosen.value) ?? links.value[0])
const groupSize = (group: number) => links.value.filter((each) => each.group === group).length
const said = (each: Shapes['LinkView']) =>
  !each.found
    ? 'no link found'
    : each.best_lag > 0
      ? `leads by ${each.best_lag}`
      : each.best_lag < 0
        ? `follows by ${-each.best_lag}`
        : 'at the same time'
type Link = Shapes['LinkView']
const COLUMNS: GridColumn<Link>[] = [
  { name: 'column', title: 'column', value: (each) => each.name, words: true },
  { name: 'role', title: 'role', value: (each) => each.role.replace('_', ' '), words: true },
  { name: 'best', title: 'strongest', value: (each) => each.best, text: (each) => fixed(each.best, 2) },
  {
    name: 'at',
    title: 'at',
    value: (each) => (each.found ? each.best_lag : null),
    text: (each) => said(each),
    words: true,
  },
  {
    name: 'redundancy',
    title: 'redundancy',
    value: (each) => groupSize(each.group),
    text: (each) =>
      groupSize(each.group) > 1 ? `says the same as ${groupSize(each.group) - 1} other` : 'on its own',
    words: true,
  },
]
const series = computed<PlotSeries[]>(() => {
  const now = link.value
  if (!now) return []
  const bound = (sign: number): PlotSeries => ({
    label: sign > 0 ? 'bound' : 'lower bound',
    x: now.lags,
    y: now.lags.map(() => sign * now.bound),
    kind: 'line',
    color: 'var(--ink-3)',
    dash: [4, 3],
  })
  const best = now.lags.indexOf(now.best_lag)
  return [
    { label: 'lag', x: now.lags, y: now.correlations, kind: 'bars', color: 'var(--ink-2)', marked: [best] },
    bound(1),
    bound(-1),
  ]
})
</script>

<template>
  <p v-if="!busy && !links.length" class="second">
    This dataset has no numeric columns beside the series. Columns are given a role in Intake.
  </p>
  <template v-else>
    <div class="panel cell">
      <PlotChart
        :title="`correlation of ${link?.name ?? ''} with the series, both pre-whitened`"
        note="right of zero: the column leads"
        :series="series"
        x-label="lag, steps"
      />
    </div>
    <div class="panel list">
      <DataGrid
        label="Columns"
        :rows="links"
        :columns="COLUMNS"
        :key-of="(each) => each.name"
        :selected="link?.name ?? null"
        @select="chosen = $event.name"
      />
      <p v-if="columns?.others.length" class="second">
        Not numeric in time: {{ columns.others.join(', ') }}.
      </p>
    </div>
  </template>
</template>

<style scoped>
.cell {
  flex: 1;
  padding: 8px 10px;
  display: flex;
}
.cell > figure {
  flex: 1;
}
.list {
  flex: 0 0 auto;
  max-height: 40%;
  overflow: auto;
  padding: 8px 12px;
}
</style>
