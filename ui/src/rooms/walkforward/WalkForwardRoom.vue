<script setup lang="ts">
import { computed, onBeforeUnmount, ref, watch, watchPostEffect } from 'vue'
import TimeLane from '../../charts/TimeLane.vue'
import { roomActions } from '../../state/keys'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import EmptyRoom from '../../widgets/EmptyRoom.vue'
import RoomFrame from '../../widgets/RoomFrame.vue'
import BoardArea from './BoardArea.vue'
import ContenderFacts from './ContenderFacts.vue'
import EntrantEvidence from './EntrantEvidence.vue'
import LayoutRoom from './layout/LayoutRoom.vue'
import ExperimentActions from './ExperimentActions.vue'
import FoldMap from './FoldMap.vue'
import SearchRoom from './race/SearchRoom.vue'
import { useDuel } from './useDuel'
import { useExperiment, type BoardManner } from './useExperiment'
import { useForecasts } from './useForecasts'
import { type ErrorsDrawn, titleOf, useErrors } from './useGlance'

const store = useProject()
const view = useView()
const id = computed(() => store.choices.experiment_id)
const manner = ref<BoardManner>({})
const { experiment, board, deceptions, caution, used, judged, rows, active, run, stop } = useExperiment(
  id,
  () => manner.value,
)
const opponent = ref('')
const editing = ref(false)
const searching = ref(false)
watch(id, () => {
  manner.value = {}
  opponent.value = ''
  searching.value = false
})
const selected = ref('')
const hidden = ref(new Set<string>())
const contenders = computed(() => experiment.value?.contenders ?? [])
/** Whether what is shown is what was chosen: while another is on its way there is nothing to copy or run. */
const there = computed(() => !!id.value && experiment.value?.id === id.value)

watch(
  rows,
  (now) => {
    if (now.some((row) => row.contender === selected.value)) return
    const best = [...now].sort((a, b) => (b.skill ?? -Infinity) - (a.skill ?? -Infinity))[0]
    selected.value = best?.contender ?? ''
    const naive = now.filter((row) => row.family === 'baseline' && !row.baseline).map((row) => row.contender)
    hidden.value = new Set(naive)
  },
  { immediate: true },
)
const shown = computed(
  () => new Set(contenders.value.map((each) => each.name).filter((name) => !hidden.value.has(name))),
)
function toggle(name: string) {
  const next = new Set(hidden.value)
  if (!next.delete(name)) next.add(name)
  hidden.value = next
}

const cutoffs = computed(() => (experiment.value?.folds ?? []).map((fold) => fold.cutoff))
watch(cutoffs, (now) => {
  if (now.length && view.cutoff < (now[0] ?? 0))
    view.suggestCutoff(now[Math.floor(now.length / 2)] ?? view.cutoff)
})

watch(
  () => experiment.value?.horizon,
  (now) => now && view.frame(now + (experiment.value?.gap ?? 0)),
  { immediate: true },
)

const { points, forecasts, lane, bands, flatLane, fold, learned } = useForecasts(
  id,
  experiment,
  selected,
  shown,
)
const { answer: asked, duel, lane: saved } = useDuel(id, selected, opponent, manner, contenders)
const glance = ref('board')
const errors = ref<ErrorsDrawn>({ how: '', ahead: null })
const errorsTitle = computed(() => titleOf(errors.value))
const { answer: missedAnswer, lane: missed } = useErrors(id, errors, shown, contenders)
const sentence = computed(() => {
  if (judged.loading.value) return 'Reading the board …'
  if (judged.failure.value && !board.value) return `The board could not be read: ${judged.failure.value}`
  return board.value?.verdict ?? ''
})

watchPostEffect(() => {
  if (editing.value || searching.value) return
  roomActions.run = () => (there.value ? void run() : (editing.value ||= !id.value))
  roomActions.stop = () => void stop()
  roomActions.cutoffs = cutoffs.value
})
onBeforeUnmount(() => {
  roomActions.run = roomActions.stop = null
  view.frame(0)
})
</script>

<template>
  <LayoutRoom v-if="editing && store.dataset" :source="experiment" @close="editing = false" />
  <EmptyRoom
    v-else-if="store.dataset && !id"
    title="Walk-forward"
    text="No experiment yet: enter contenders against the naive baselines."
    action="Set up an experiment"
    @act="editing = true"
  />
  <SearchRoom
    v-else-if="searching && experiment"
    :experiment="experiment"
    :active="active"
    @stop="stop"
    @close="searching = false"
  />
  <RoomFrame v-else strip needs-data :origins="cutoffs">
    <FoldMap
      v-if="experiment"
      :folds="experiment.folds"
      :sealed="experiment.sealed"
      :here="fold"
      class="folds"
    >
      <span class="tag second"
        >folds, {{ cutoffs.length }} × {{ store.axis?.steps(experiment.horizon) }} ahead{{
          experiment.gap ? `, gap ${store.axis?.steps(experiment.gap)}` : ''
        }}</span
      >
    </FoldMap>
    <TimeLane
      v-if="!view.flat"
      name="forecasts"
      title="forecasts from the cutoff"
      :unit="view.unit"
      :series="lane"
      :bands="bands"
      :note="forecasts?.note"
      :answer="points"
      show-time
      class="lane"
    />
    <TimeLane
      v-else
      name="flat"
      title="forecasts from the cutoff, flat units"
      :series="flatLane"
      note="each contender in its own chain's units"
      show-time
      class="lane"
    />
    <TimeLane
      v-if="opponent && opponent !== selected"
      name="duel"
      :title="`error of ${opponent} that ${selected} has saved`"
      unit="%"
      :series="saved"
      :answer="asked"
      class="duel"
    />
    <TimeLane
      v-if="errors.how"
      name="errors"
      :title="errorsTitle"
      :unit="view.unit"
      :series="missed"
      :answer="missedAnswer"
      :from-zero="errors.how === 'absolute'"
      class="duel"
    />
    <BoardArea
      v-if="experiment"
      v-model:glance="glance"
      v-model:errors="errors"
      :experiment="experiment"
      :board="board"
      :rows="rows"
      :deceptions="deceptions"
      :unit="view.unit"
      :selected="selected"
      :shown="shown"
      :fold="fold"
      :active="active"
      :sentence="sentence"
      :used="used"
      :caution="caution"
      :manner="manner"
      class="board"
      @select="selected = $event"
      @toggle="toggle"
      @change="manner = $event"
    />
    <template #inspector>
      <ContenderFacts
        v-if="experiment && selected"
        :experiment="experiment"
        :contender="selected"
        :fold="fold"
        :learned="learned"
        :note="forecasts ? forecasts.note || 'Nothing is learned yet.' : 'Reading what was learned …'"
        :rows="rows"
        :sentence="sentence"
      >
        <EntrantEvidence
          v-model:opponent="opponent"
          :experiment="experiment"
          :contender="selected"
          :entrants="rows.map((row) => row.contender)"
          :deceptions="deceptions"
          :duel="duel"
          :metric="manner.metric"
        />
      </ContenderFacts>
      <span style="flex: 1"></span>
      <ExperimentActions
        :id="id"
        :experiment="experiment"
        :active="active"
        :there="there"
        @run="run"
        @stop="stop"
        @copy="editing = true"
        @search="searching = true"
      />
    </template>
  </RoomFrame>
</template>

<style scoped>
.folds {
  flex: 0 0 76px;
}
.tag {
  position: absolute;
  right: 10px;
  top: 4px;
  font-size: 12px;
  pointer-events: none;
}
.lane {
  flex: 1 1 40%;
}
.duel {
  flex: 0 0 96px;
}
.board {
  flex: 0 1 auto;
  max-height: 52%;
}
</style>
