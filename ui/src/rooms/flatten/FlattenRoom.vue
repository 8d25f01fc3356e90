<script setup lang="ts">
import { computed } from 'vue'
import { namedBars } from '../../charts/plot'
import PlotChart from '../../charts/PlotChart.vue'
import { observedSeries, type LaneBand, type LaneSeries } from '../../charts/lane'
import TimeLane from '../../charts/TimeLane.vue'
import { useLine } from '../../charts/useLine'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import RoomFrame from '../../widgets/RoomFrame.vue'
import ChainBar from './ChainBar.vue'
import KeptChains from './KeptChains.vue'
import StageFacts from './StageFacts.vue'
import { useStageLanes } from './stageLanes'
import { useFlatten } from './useFlatten'

const store = useProject()
const view = useView()
const { chain, selected, comparing, refused, flat, facts, busy, change, setStage, current } = useFlatten()
const points = useLine()
const line = points.data

const cutoffTime = computed(() => store.axis?.time(view.cutoff - 1) ?? 0)
const stages = computed(() => (refused.value ? [] : (flat.value?.stages ?? [])))
const last = computed(() => stages.value[stages.value.length - 1])
const observed = computed(() => {
  const source = refused.value ? line.value : (flat.value?.observed ?? line.value)
  return source ? observedSeries(source, cutoffTime.value) : []
})
const flatLine = computed(() =>
  last.value ? observedSeries(last.value.output, cutoffTime.value, 'flat') : [],
)
/** What the chain alone says beyond the cutoff, against what happened. */
const projection = computed<LaneSeries[]>(() =>
  !refused.value && flat.value?.projection.times.length
    ? [{ label: 'chain alone', points: flat.value.projection, color: 'var(--c1)', width: 1.5, dash: [5, 3] }]
    : [],
)
const range = computed<LaneBand[]>(() =>
  !refused.value && flat.value?.projection.times.length
    ? [
        {
          label: '80 %',
          times: flat.value.projection.times,
          low: flat.value.projection_low,
          high: flat.value.projection_high,
          color: 'var(--c1)',
          alpha: 0.18,
        },
      ]
    : [],
)
/** The first lane; its lines stay the same objects until they change, so that nothing else draws it anew. */
const upper = computed(() => (view.flat ? flatLine.value : [...observed.value, ...projection.value]))
const NONE: LaneBand[] = []
/** What enters and what leaves the selected stage, in the units it works in. */
const around = computed<LaneSeries[]>(() => {
  const at = stages.value.findIndex((each) => each.place === selected.value)
  const here = stages.value[at]
  if (!here || !flat.value) return []
  const after = observedSeries(here.output, cutoffTime.value, 'after')
  if (!here.parts.length) return here === last.value ? [] : after
  const entered = stages.value[at - 1]?.output ?? flat.value.observed
  return [{ label: 'before', points: entered, color: 'var(--ink-3)', width: 1, dash: [4, 3] }, ...after]
})
/** A transform that takes any value, where the chain has one that does not. */
const CHOOSY = ['log', 'log1p', 'box_cox', 'logit', 'returns']
const choosy = computed(() => chain.value.findIndex((each) => !each.off && CHOOSY.includes(each.kind ?? '')))
function swap() {
  const next = chain.value.map((each, i) =>
    i === choosy.value ? ({ kind: 'yeo_johnson' } as unknown as (typeof chain.value)[number]) : each,
  )
  void change(next, choosy.value)
}
const lanes = useStageLanes(stages, cutoffTime)
const after = computed(() => facts.value?.stages[facts.value.stages.length - 1] ?? facts.value?.before)
const lags = computed(() => (facts.value?.acf_after ?? []).map((_, i) => i).slice(1))
const blocks = computed(() => (facts.value?.spreads_after ?? []).map((_, i, all) => i + 1 - all.length))
const stage = computed(() => chain.value[selected.value])
</script>

<template>
  <RoomFrame strip needs-data>
    <ChainBar
      :chain="chain"
      :selected="selected"
      @select="selected = $event"
      @change="(next, place) => change(next, place)"
    />
    <p v-if="refused" class="worse hint refused" role="alert">
      <span>{{ refused }}</span>
      <button v-if="choosy >= 0 && refused.includes('Yeo–Johnson')" class="button" @click="swap">
        Use Yeo–Johnson instead
      </button>
    </p>
    <div class="stack">
      <TimeLane
        :answer="points"
        name="observed"
        :title="view.flat ? 'flat' : 'observed'"
        :unit="view.flat ? '' : view.unit"
        :note="
          view.flat
            ? after?.verdict
            : projection.length
              ? 'right of the cutoff: the chain alone, with 80 %'
              : ''
        "
        :series="upper"
        :bands="view.flat ? NONE : range"
        :busy="busy"
        class="lane"
      />
      <TimeLane
        v-for="lane in lanes"
        :key="`${lane.stage.place} ${lane.name}`"
        :name="`${lane.stage.place} ${lane.name}`"
        :title="lane.name"
        :note="lane.note"
        :unit="view.flat ? '' : view.unit"
        :series="lane.series"
        class="lane"
        :class="{ chosen: lane.stage.place === selected }"
        @pick="selected = lane.stage.place"
      />
      <TimeLane
        v-if="current && around.length"
        name="around"
        :title="`${around.length > 2 ? 'before and after' : 'after'} ${current.title}`"
        :note="around.length > 2 ? 'dashed: what enters' : ''"
        :series="around"
        class="lane chosen"
      />
      <TimeLane
        v-if="last"
        name="flat"
        :title="view.flat ? 'observed' : 'flat'"
        :unit="view.flat ? view.unit : ''"
        :note="view.flat ? '' : after?.verdict"
        :series="view.flat ? observed : flatLine"
        show-time
        class="lane"
      />
      <p v-else-if="!chain.length" class="second hint">
        The chain is empty: add a stage to take something out, or take one of the chains.
      </p>
    </div>
    <div v-if="facts && last && !refused" class="facts-row">
      <div class="panel cell">
        <PlotChart
          :title="`spread of blocks of ${store.axis?.steps(facts.block)}, grey: before`"
          v-bind="
            namedBars(blocks, facts.spreads_after, { before: facts.spreads_before, color: 'var(--c4)' })
          "
        />
      </div>
      <div class="panel cell">
        <PlotChart
          title="autocorrelation, grey: before"
          v-bind="
            namedBars(lags, facts.acf_after.slice(1), {
              before: facts.acf_before.slice(1),
              bound: facts.bound,
              color: 'var(--c4)',
            })
          "
        />
      </div>
    </div>
    <template #inspector>
      <StageFacts
        v-if="stage"
        :stage="stage"
        :place="selected"
        :count="chain.length"
        :view="current"
        :facts="facts"
        :round-trip="flat?.round_trip ?? null"
        :comparing="comparing"
        @set="setStage"
        @compare="comparing = $event"
      />
      <template v-else>
        <h1>No stage</h1>
        <p class="second sentence">
          Stages learn from what is known up to the cutoff and are undone on every forecast.
        </p>
      </template>
      <KeptChains :chain="chain" />
    </template>
  </RoomFrame>
</template>

<style scoped>
.stack {
  flex: 1;
  min-height: 0;
  overflow-y: auto;
  display: flex;
  flex-direction: column;
  gap: 6px;
}
.lane {
  flex: 1 0 62px;
}
.chosen {
  border-color: var(--ink-3);
}

.refused {
  display: flex;
  gap: 12px;
  align-items: center;
}
.sentence,
.hint {
  margin: 0;
}
.facts-row {
  flex: 0 0 116px;
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 6px;
}
.cell {
  padding: 6px 10px;
  display: flex;
}
.cell > * {
  flex: 1;
}
</style>
