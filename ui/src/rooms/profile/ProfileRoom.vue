<script setup lang="ts">
import { computed } from 'vue'
import { client, unwrap, type Shapes } from '../../api/client'
import BarChart from '../../charts/BarChart.vue'
import { observedSeries } from '../../charts/lane'
import TimeLane from '../../charts/TimeLane.vue'
import { useFetched, useLine } from '../../charts/useLine'
import { count, number } from '../../state/format'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import RoomFrame from '../../widgets/RoomFrame.vue'

const store = useProject()
const view = useView()
const { data: line } = useLine()
const { data: profile, busy } = useFetched<Shapes['ProfileView']>(
  () => [store.dataset?.id, view.series, view.cutoff],
  (signal) => {
    if (!store.dataset) return null
    const params = {
      path: { dataset_id: store.dataset.id, series: view.series },
      query: { until: view.cutoff },
    }
    return unwrap(client.GET('/api/v1/datasets/{dataset_id}/series/{series}/profile', { params, signal }))
  },
  120,
)
const cutoffTime = computed(() => store.axis?.time(view.cutoff - 1) ?? 0)
const lane = computed(() => {
  const observed = line.value ? observedSeries(line.value, cutoffTime.value) : []
  const level = profile.value
    ? [{ label: 'level', points: profile.value.level, color: 'var(--c2)', width: 2 }]
    : []
  return [...observed, ...level]
})
const band = computed(() =>
  profile.value
    ? [
        {
          label: 'spread',
          times: profile.value.level.times,
          low: profile.value.band_low,
          high: profile.value.band_high,
          color: 'var(--c2)',
          alpha: 0.16,
        },
      ]
    : [],
)
const lags = computed(() => (profile.value?.acf ?? []).map((_, i) => i).slice(1))
const marked = computed(() =>
  lags.value
    .filter((lag) => profile.value && profile.value.season > 1 && lag % profile.value.season === 0)
    .map((lag) => lag - 1),
)
const bins = computed(() =>
  (profile.value?.histogram_edges ?? []).slice(0, -1).map((edge) => number(edge, 3)),
)
</script>

<template>
  <RoomFrame strip needs-data>
    <TimeLane
      name="level"
      title="level and spread"
      :unit="view.unit"
      :series="lane"
      :bands="band"
      :busy="busy"
      show-time
      class="level"
    />
    <div v-if="profile" class="grid">
      <div class="panel cell">
        <BarChart
          title="autocorrelation, seasonal lags marked"
          :labels="lags"
          :values="profile.acf.slice(1)"
          :bound="profile.bound"
          :marked="marked"
          :every="profile.season"
        />
      </div>
      <div class="panel cell">
        <BarChart
          title="partial autocorrelation"
          :labels="lags"
          :values="profile.pacf.slice(1)"
          :bound="profile.bound"
          :marked="marked"
          :every="profile.season"
        />
      </div>
      <div class="panel cell">
        <BarChart
          :title="`distribution, ${view.unit || 'values'}`"
          :labels="bins"
          :values="profile.histogram_counts"
          color="var(--ink-2)"
        />
      </div>
      <div v-for="cycle in profile.cycles" :key="cycle.field" class="panel cell">
        <BarChart
          :title="`mean by ${cycle.field.replaceAll('_', ' ')}, line: middle half`"
          :labels="cycle.labels"
          :values="cycle.mean"
          :low="cycle.low"
          :high="cycle.high"
          color="var(--c3)"
        />
      </div>
    </div>
    <template #inspector>
      <h1>{{ view.key }}</h1>
      <template v-if="profile">
        <p class="second sentence">What is known up to the cutoff.</p>
        <table class="facts">
          <tbody>
            <tr>
              <td>known points</td>
              <td class="number">{{ count(profile.known) }}</td>
            </tr>
            <tr>
              <td>missing</td>
              <td class="number">{{ count(profile.missing) }}</td>
            </tr>
            <tr>
              <td>mean</td>
              <td class="number">{{ number(profile.mean) }} {{ view.unit }}</td>
            </tr>
            <tr>
              <td>spread</td>
              <td class="number">{{ number(profile.spread) }} {{ view.unit }}</td>
            </tr>
            <tr>
              <td>Box–Cox λ</td>
              <td class="number">{{ number(profile.box_cox, 3) }}</td>
            </tr>
          </tbody>
        </table>
        <h2>{{ profile.verdict }}</h2>
        <div v-for="test in profile.tests" :key="test.name" class="test">
          <b>{{ test.name }}</b>
          <span class="number"
            >{{ number(test.statistic) }}, p
            {{ test.p_value !== null && test.p_value < 0.001 ? '< 0.001' : number(test.p_value, 2) }}</span
          >
          <span class="second">{{ test.verdict }} Null: {{ test.null }}; {{ test.lags }} lags.</span>
        </div>
        <p class="second sentence">Tests run on the last 4,000 known points.</p>
      </template>
    </template>
  </RoomFrame>
</template>

<style scoped>
.level {
  flex: 0 0 34%;
}
.grid {
  flex: 1;
  min-height: 0;
  display: grid;
  grid-template: 1fr 1fr / repeat(3, minmax(0, 1fr));
  gap: 6px;
}
.cell {
  padding: 8px 10px;
  display: flex;
  overflow: hidden;
}
.cell > * {
  flex: 1;
}
.test {
  display: flex;
  flex-direction: column;
  border-bottom: 1px solid var(--hairline);
  padding-bottom: 6px;
}
.sentence {
  margin: 0;
}
</style>
