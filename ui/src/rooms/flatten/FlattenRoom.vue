<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { attempt, client, unwrap, type Shapes } from '../../api/client'
import BarChart from '../../charts/BarChart.vue'
import { observedSeries, splitAt, type LaneSeries } from '../../charts/lane'
import TimeLane from '../../charts/TimeLane.vue'
import { useFetched, visiblePositions } from '../../charts/useLine'
import { fixed, number } from '../../state/format'
import { useProject, type Choices } from '../../state/project'
import { useView } from '../../state/view'
import RoomFrame from '../../widgets/RoomFrame.vue'
import SettingsForm from '../../widgets/SettingsForm.vue'
import ChainBar from './ChainBar.vue'

type Stage = NonNullable<Choices['chain']>[number]
const store = useProject()
const view = useView()
const chain = ref<Stage[]>([])
const selected = ref(0)
watch(
  () => store.choices.chain,
  (stored) => (chain.value = JSON.parse(JSON.stringify(stored ?? []))),
  { immediate: true },
)

const { data: flat, busy } = useFetched<Shapes['FlattenView']>(
  () => [store.dataset?.id, view.series, view.cutoff, view.span, chain.value],
  (signal) => {
    if (!store.dataset) return null
    const params = { path: { dataset_id: store.dataset.id, series: view.series } }
    const body = { chain: chain.value, until: view.cutoff, ...visiblePositions(), width: 2000 }
    return unwrap(
      client.POST('/api/v1/datasets/{dataset_id}/series/{series}/flatten', { params, body, signal }),
    )
  },
  40,
)

async function change(next: Stage[]) {
  chain.value = next
  selected.value = Math.min(selected.value, Math.max(next.length - 1, 0))
  await attempt(() => store.choose({ chain: next }))
}
function setStage(settings: Record<string, unknown>) {
  void change(
    chain.value.map((stage, i) => (i === selected.value ? ({ ...stage, ...settings } as Stage) : stage)),
  )
}

const cutoffTime = computed(() => store.axis?.time(view.cutoff - 1) ?? 0)
const observed = computed(() => (flat.value ? observedSeries(flat.value.observed, cutoffTime.value) : []))
const COLORS = ['var(--c2)', 'var(--c3)', 'var(--c1)', 'var(--c4)', 'var(--c6)']
const lanes = computed(() =>
  (flat.value?.stages ?? []).map((stage, index) => {
    const color = COLORS[index % COLORS.length] as string
    if (!stage.removed)
      return {
        stage,
        index,
        series: observedSeries(stage.output, cutoffTime.value, stage.title),
        removed: false,
      }
    const [learned, projected] = splitAt(stage.removed, cutoffTime.value)
    const series: LaneSeries[] = [
      { label: stage.title, points: learned, color, width: 1.5 },
      { label: `${stage.title}, projected`, points: projected, color, width: 1.5, dash: [5, 3] },
    ]
    return { stage, index, series, removed: true }
  }),
)
/** Stages with an additive part, and the chosen one even if it has none. */
const removedLanes = computed(() =>
  lanes.value.filter((lane) => lane.removed || lane.index === selected.value),
)
const last = computed(() => flat.value?.stages[flat.value.stages.length - 1])
const flatLane = computed(() =>
  last.value ? observedSeries(last.value.output, cutoffTime.value, 'flat') : [],
)
const current = computed(() => flat.value?.stages[selected.value])
const schema = computed(() => {
  const kind = chain.value[selected.value]?.kind
  return kind ? ((store.catalogue?.stages[kind] ?? {}) as Record<string, unknown>) : {}
})
const learned = computed(
  () => Object.entries(current.value?.arrays ?? {}) as [string, number | number[] | string][],
)
const figure = computed(
  () =>
    learned.value.find(([, value]) => Array.isArray(value) && value.length > 2)?.[1] as number[] | undefined,
)
const percent = (share: number | null | undefined) =>
  share == null ? '' : `takes ${fixed(share * 100, 1)} % of variance`
</script>

<template>
  <RoomFrame strip needs-data>
    <ChainBar :chain="chain" :selected="selected" @select="selected = $event" @change="change" />
    <TimeLane
      name="observed"
      title="observed"
      :unit="view.unit"
      :series="observed"
      :busy="busy"
      class="lane"
    />
    <TimeLane
      v-for="lane in removedLanes"
      :key="lane.index"
      :name="`stage ${lane.index}`"
      :title="lane.stage.title"
      :note="percent(lane.stage.variance_share)"
      :series="lane.series"
      class="lane"
      :class="{ chosen: lane.index === selected }"
      @pick="selected = lane.index"
    />
    <TimeLane
      v-if="last"
      name="flat"
      title="flat"
      :note="last.verdict"
      :series="flatLane"
      show-time
      class="lane"
    />
    <p v-else class="second hint">The chain is empty: add a stage to take something out.</p>
    <template #inspector>
      <template v-if="current && chain[selected]">
        <h1>{{ current.title }}</h1>
        <p class="second sentence">
          stage {{ selected + 1 }} of {{ chain.length }} · learned up to the cutoff
        </p>
        <SettingsForm
          :schema="schema"
          :model-value="chain[selected] as unknown as Record<string, unknown>"
          @update:model-value="setStage"
        />
        <BarChart
          v-if="figure"
          class="figure"
          title="What it learned, by phase"
          :labels="figure.map((_, i) => i)"
          :values="figure"
          color="var(--c3)"
        />
        <table class="facts">
          <tbody>
            <tr
              v-for="[name, value] in learned.filter(([, v]) => !Array.isArray(v) || v.length <= 2)"
              :key="name"
            >
              <td>{{ name }}</td>
              <td class="number">{{ typeof value === 'number' ? number(value, 5) : value }}</td>
            </tr>
            <tr v-if="current.variance_share !== null">
              <td>share of variance</td>
              <td class="number">{{ fixed((current.variance_share ?? 0) * 100, 1) }} %</td>
            </tr>
            <tr>
              <td>round trip</td>
              <td class="number">{{ flat?.round_trip?.toExponential(0) ?? '–' }}</td>
            </tr>
          </tbody>
        </table>
        <p v-for="note in current.notes" :key="note" class="worse sentence">{{ note }}</p>
        <h2>After this stage</h2>
        <p class="sentence">{{ current.verdict }}</p>
        <p v-for="test in current.tests" :key="test.name" class="second sentence">
          {{ test.name }}: p
          <span class="number">{{
            test.p_value !== null && test.p_value < 0.001 ? '< 0.001' : number(test.p_value, 2)
          }}</span>. {{ test.verdict }}
        </p>
      </template>
      <template v-else
        ><h1>No stage</h1>
        <p class="second sentence">
          Stages learn from what is known up to the cutoff and are undone on every forecast.
        </p></template
      >
    </template>
  </RoomFrame>
</template>

<style scoped>
.lane {
  flex: 1;
  min-height: 60px;
}
.chosen {
  border-color: var(--ink-3);
}
.sentence,
.hint {
  margin: 0;
}
.figure {
  height: 120px;
}
</style>
