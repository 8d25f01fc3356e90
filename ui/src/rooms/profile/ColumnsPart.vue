<script setup lang="ts">
import { computed, ref } from 'vue'
import { client, unwrap, type Shapes } from '../../api/client'
import type { PlotSeries } from '../../charts/plot'
import PlotChart from '../../charts/PlotChart.vue'
import { fixed } from '../../state/format'
import { useProfilePart } from './useProfile'

/** Which columns go with the series, at which lag, and which say the same. */
const { data: columns, busy } = useProfilePart<Shapes['ColumnsView']>('columns', ({ params, body, signal }) =>
  unwrap(
    client.POST('/api/v1/datasets/{dataset_id}/series/{series}/profile/columns', { params, body, signal }),
  ),
)
const chosen = ref(0)
const links = computed(() => columns.value?.links ?? [])
const link = computed(() => links.value[Math.min(chosen.value, links.value.length - 1)])
const groupSize = (group: number) => links.value.filter((each) => each.group === group).length
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
const said = (each: Shapes['LinkView']) =>
  !each.found
    ? 'no link found'
    : each.best_lag > 0
      ? `leads by ${each.best_lag}`
      : each.best_lag < 0
        ? `follows by ${-each.best_lag}`
        : 'at the same time'
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
      <table class="facts">
        <thead>
          <tr>
            <td>column</td>
            <td>role</td>
            <td>strongest</td>
            <td>at</td>
            <td>redundancy</td>
          </tr>
        </thead>
        <tbody>
          <tr
            v-for="(each, i) in links"
            :key="each.name"
            :class="{ here: each === link }"
            tabindex="0"
            @click="chosen = i"
            @keydown.enter="chosen = i"
          >
            <td>{{ each.name }}</td>
            <td>{{ each.role.replace('_', ' ') }}</td>
            <td class="number">{{ fixed(each.best, 2) }}</td>
            <td>{{ said(each) }}</td>
            <td>
              {{
                groupSize(each.group) > 1
                  ? `says the same as ${groupSize(each.group) - 1} other`
                  : 'on its own'
              }}
            </td>
          </tr>
        </tbody>
      </table>
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
.list td {
  text-align: left;
  padding-right: 12px;
}
.list thead td {
  color: var(--ink-2);
}
.list tbody tr {
  cursor: pointer;
}
.here {
  background: var(--selection);
}
</style>
