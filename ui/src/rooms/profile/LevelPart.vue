<script setup lang="ts">
import Checkbox from 'primevue/checkbox'
import ChoiceField from '../../widgets/ChoiceField.vue'
import NumberField from '../../widgets/NumberField.vue'
import { computed, ref, watch } from 'vue'
import { client, unwrap, type Shapes } from '../../api/client'
import { observedSeries, type LaneSeries } from '../../charts/lane'
import { namedBars } from '../../charts/plot'
import PlotChart from '../../charts/PlotChart.vue'
import TimeLane from '../../charts/TimeLane.vue'
import { useLine, visiblePositions } from '../../charts/useLine'
import { useAnswer } from '../../state/answers'
import { fixed } from '../../state/format'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import { useProfilePart, useShownUnit } from './useProfile'

const store = useProject()
const view = useView()
const unit = useShownUnit()
const points = useLine()
const line = points.data
const window = ref<number | null>(null)
const { data: level, busy } = useProfilePart<
  Shapes['LevelView'],
  { window: number | null; start: number; stop: number }
>(
  'level',
  ({ params, body, signal, extra }) =>
    unwrap(
      client.POST('/api/v1/datasets/{dataset_id}/series/{series}/profile/level', {
        params,
        body: { ...body, ...extra },
        signal,
      }),
    ),
  () => ({ window: window.value, ...visiblePositions() }),
)
const { data: cycles } = useProfilePart<Shapes['CyclesView']>('cycles', ({ params, body, signal }) =>
  unwrap(
    client.POST('/api/v1/datasets/{dataset_id}/series/{series}/profile/cycles', {
      params,
      body: { ...body, period: null },
      signal,
    }),
  ),
)

// another series, or a column, over this one
const over = ref('')
const standardised = ref(false)
const choices = computed(() => [
  ...(store.dataset?.columns ?? []).map((each) => ({ value: `c:${each.name}`, label: String(each.name) })),
  ...(store.dataset?.series ?? [])
    .map((each, i) => ({ value: `s:${i}`, label: each.key }))
    .filter((each) => each.value !== `s:${view.series}`),
])
watch(
  () => view.series,
  () => {
    if (over.value === `s:${view.series}`) over.value = ''
  },
)
const { data: overlay } = useAnswer(
  'overlay',
  () => {
    if (!store.dataset || !over.value) return null
    const [kind, name] = [over.value.slice(0, 1), over.value.slice(2)]
    return {
      params: { path: { dataset_id: store.dataset.id, series: view.series } },
      body: {
        until: view.cutoff,
        chain: [],
        series: kind === 's' ? Number(name) : null,
        column: kind === 'c' ? (name ?? null) : null,
        standardised: standardised.value,
        ...visiblePositions(),
        width: 1200,
      },
    }
  },
  (asked, signal): Promise<Shapes['OverlayView']> =>
    unwrap(
      client.POST('/api/v1/datasets/{dataset_id}/series/{series}/profile/overlay', { ...asked, signal }),
    ),
)
const together = computed(() =>
  overlay.value?.correlation == null
    ? ''
    : `correlation of the known points ${fixed(overlay.value.correlation, 2)}`,
)

const cutoffTime = computed(() => store.axis?.time(view.cutoff - 1) ?? 0)
const lane = computed<LaneSeries[]>(() => {
  const source = view.flat ? level.value?.observed : line.value
  const observed = source ? observedSeries(source, cutoffTime.value, view.flat ? 'flat' : 'observed') : []
  return level.value
    ? [...observed, { label: 'level', points: level.value.level, color: 'var(--c2)', width: 2 }]
    : observed
})
const band = computed(() =>
  level.value
    ? [
        {
          label: 'spread',
          times: level.value.level.times,
          low: level.value.low,
          high: level.value.high,
          color: 'var(--c2)',
          alpha: 0.16,
        },
      ]
    : [],
)
const laid = computed<LaneSeries[]>(() =>
  overlay.value
    ? [
        {
          label: overlay.value.label,
          points: overlay.value.line,
          color: 'var(--c7)',
          width: 1.25,
          dash: [6, 2],
        },
      ]
    : [],
)
/** Standardised it shares the axis; otherwise it has one of its own, below. */
const first = computed(() => (standardised.value ? [...lane.value, ...laid.value] : lane.value))
const second = computed(() => (standardised.value ? [] : laid.value))
const span = computed(() => (level.value ? `${store.axis?.steps(level.value.window)} window` : ''))
</script>

<template>
  <div class="bar">
    <label>
      <span class="second">Window</span>
      <NumberField
        :min="2"
        :placeholder="String(level?.window ?? '')"
        :model-value="window"
        @update:model-value="window = $event"
      />
      <span class="second">steps</span>
    </label>
    <label>
      <span class="second">Lay over</span>
      <ChoiceField
        v-model="over"
        :options="[
          { value: '', label: 'nothing' },
          ...choices.map((each) => ({ value: each.value, label: each.label })),
        ]"
      />
    </label>
    <label v-if="over"><Checkbox binary v-model="standardised" /> standardised, on one axis</label>
    <span v-if="standardised" class="second">{{ together }}</span>
  </div>
  <TimeLane
    :answer="points"
    name="level"
    title="level and spread"
    :note="span"
    :unit="unit"
    :series="first"
    :bands="band"
    :busy="busy"
    :show-time="!second.length"
    class="level"
  />
  <TimeLane
    v-if="second.length"
    name="over"
    :title="overlay?.label"
    :note="together"
    :series="second"
    show-time
    class="over"
  />
  <div class="grid">
    <div v-for="slot in cycles?.slots ?? []" :key="slot.field" class="panel cell">
      <PlotChart
        :title="`mean by ${slot.field.replaceAll('_', ' ')}, line: middle half`"
        v-bind="namedBars(slot.labels, slot.mean, { low: slot.low, high: slot.high, color: 'var(--c3)' })"
      />
    </div>
  </div>
</template>

<style scoped>
.bar {
  display: flex;
  gap: 16px;
  align-items: center;
}
.bar label {
  display: flex;
  gap: 6px;
  align-items: center;
}
.bar :deep(.number) {
  width: 76px;
  text-align: right;
}
.level {
  flex: 1 1 46%;
}
.over {
  flex: 0 0 22%;
}
.grid {
  flex: 0 1 34%;
  min-height: 0;
  display: grid;
  grid-auto-flow: column;
  grid-auto-columns: minmax(0, 1fr);
  gap: 6px;
}
.cell {
  padding: 8px 10px;
  display: flex;
}
.cell > * {
  flex: 1;
}
</style>
