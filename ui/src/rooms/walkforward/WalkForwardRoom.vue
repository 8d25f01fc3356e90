<script setup lang="ts">
import { computed, onBeforeUnmount, ref, watch, watchEffect } from 'vue'
import TimeLane from '../../charts/TimeLane.vue'
import { seconds } from '../../state/format'
import { roomActions } from '../../state/keys'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import ChoiceField from '../../widgets/ChoiceField.vue'
import EmptyRoom from '../../widgets/EmptyRoom.vue'
import RoomFrame from '../../widgets/RoomFrame.vue'
import BoardChoices from './BoardChoices.vue'
import BoardTable from './BoardTable.vue'
import ContenderFacts from './ContenderFacts.vue'
import DuelFacts from './DuelFacts.vue'
import ExperimentForm from './ExperimentForm.vue'
import FoldMap from './FoldMap.vue'
import SaveMenu from './SaveMenu.vue'
import { useDuel } from './useDuel'
import { useExperiment, type BoardManner } from './useExperiment'
import { useForecasts } from './useForecasts'
import { missingOf } from './missing'

const store = useProject()
const view = useView()
const id = computed(() => store.choices.experiment_id)
const manner = ref<BoardManner>({})
const { experiment, board, deceptions, caution, judged, rows, active, run, stop } = useExperiment(
  id,
  () => manner.value,
)
const opponent = ref('')
watch(id, () => {
  manner.value = {}
  opponent.value = ''
})
const editing = ref(false)
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
const duelling = useDuel(id, selected, opponent, manner, contenders)
const duel = duelling.duel
const opponents = computed(() => [
  { value: '', label: 'nobody' },
  ...rows.value.filter((row) => row.contender !== selected.value).map((row) => row.contender),
])
const sentence = computed(() => {
  if (judged.loading.value) return 'Reading the board …'
  if (judged.failure.value && !board.value) return `The board could not be read: ${judged.failure.value}`
  return board.value?.verdict ?? ''
})
const missing = computed(() => missingOf(experiment.value?.failures ?? []))

watchEffect(() => {
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
  <ExperimentForm v-if="editing && store.dataset" :source="experiment" @close="editing = false" />
  <EmptyRoom
    v-else-if="store.dataset && !id"
    title="Walk-forward"
    text="No experiment yet: enter contenders against the naive baselines."
    action="Set up an experiment"
    @act="editing = true"
  />
  <RoomFrame v-else strip needs-data :origins="cutoffs">
    <FoldMap v-if="experiment" :folds="experiment.folds" :here="fold" class="folds">
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
      :series="duelling.lane.value"
      :answer="duelling.answer"
      class="duel"
    />
    <BoardTable
      v-if="experiment"
      :rows="rows"
      :metrics="board?.metrics ?? []"
      :notes="board?.notes ?? []"
      :deceptions="deceptions"
      :ranks="board?.ranks ?? null"
      :resampled="board?.resampled ?? null"
      :baseline="experiment.baseline"
      :folds="cutoffs.length"
      :unit="view.unit"
      :selected="selected"
      :shown="shown"
      :contenders="contenders"
      class="board"
      @select="selected = $event"
      @toggle="toggle"
    >
      <div class="foot">
        <p class="sentence">
          {{ sentence }}
          <template v-if="active">
            {{ experiment.done + experiment.failed }} of {{ experiment.cells }} cells done{{
              experiment.seconds_left ? `, about ${seconds(experiment.seconds_left)} left` : ''
            }}.</template
          >
          <template v-if="experiment.state === 'stopped'"> Stopped; what is done is kept.</template>
          <span v-if="caution" class="worse">{{ caution }}&nbsp;</span>
          <span v-if="missing" class="worse">{{ missing }}</span>
        </p>
        <BoardChoices v-if="board" :manner="manner" :measure="board.skill_metric" @change="manner = $event" />
      </div>
    </BoardTable>
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
        <label v-if="rows.length > 1" class="against">
          <span class="second">in a duel with</span>
          <ChoiceField v-model="opponent" :options="opponents" />
        </label>
        <p
          v-for="each in deceptions.filter((one) => one.contender === selected)"
          :key="each.kind"
          class="minded"
        >
          <b>{{ each.title }}</b> {{ each.text }}
        </p>
        <DuelFacts v-if="duel" :duel="duel" :contenders="contenders" />
      </ContenderFacts>
      <span class="grow"></span>
      <div class="buttons">
        <button v-if="active" class="button primary" @click="stop">Stop (Esc)</button>
        <button
          v-else-if="experiment && experiment.done < experiment.cells"
          class="button primary"
          @click="run"
        >
          Continue (r)
        </button>
        <button
          class="button"
          :class="{ primary: !active && experiment?.done === experiment?.cells }"
          :disabled="!there"
          @click="editing = true"
        >
          Copy, then vary
        </button>
        <SaveMenu v-if="id" :id="id" />
      </div>
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
.minded {
  margin: 0;
  padding-left: 8px;
  border-left: 2px solid var(--worse);
}
.minded b::first-letter {
  text-transform: uppercase;
}
.against {
  display: flex;
  align-items: center;
  gap: 8px;
  white-space: nowrap;
}
.against :deep(.p-select) {
  flex: 1;
}
.board {
  flex: 0 1 auto;
  max-height: 52%;
}
.foot {
  display: flex;
  align-items: center;
  justify-content: space-between;
  gap: 12px;
  padding: 4px 12px;
}
.sentence {
  margin: 4px 0;
  color: var(--ink-2);
}
.grow {
  flex: 1;
}
.buttons {
  display: flex;
  gap: 8px;
}
</style>
