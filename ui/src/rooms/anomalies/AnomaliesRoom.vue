<script setup lang="ts">
import ChoiceField from '../../widgets/ChoiceField.vue'
import NumberField from '../../widgets/NumberField.vue'
import { computed, onBeforeUnmount, ref, watch, watchEffect } from 'vue'
import { attempt, client, type Shapes, unwrap } from '../../api/client'
import { observedSeries, type Pennant } from '../../charts/lane'
import TimeLane from '../../charts/TimeLane.vue'
import { useLine, visiblePositions } from '../../charts/useLine'
import { useAnswer } from '../../state/answers'
import { count, fixed } from '../../state/format'
import { roomActions } from '../../state/keys'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import FactList from '../../widgets/FactList.vue'
import RoomFrame from '../../widgets/RoomFrame.vue'
import { useExperiment } from '../walkforward/useExperiment'
import FlagGrid from './FlagGrid.vue'
import { useFlags } from './useFlags'

const store = useProject()
const view = useView()
const id = computed(() => store.choices.scan_id)
const { experiment, active, run, stop } = useExperiment(id)
const points = useLine()
const line = points.data
const basis = computed(() =>
  store.project?.experiments.find((each) => each.id === store.choices.experiment_id),
)
const using = ref('')
const { experiment: source } = useExperiment(computed(() => store.choices.experiment_id))
const candidates = computed(() => source.value?.contenders ?? [])
watch(
  candidates,
  (now) => (using.value ||= now.find((each) => each.family !== 'baseline')?.name ?? now[0]?.name ?? ''),
  { immediate: true },
)

const { data: scores } = useAnswer(
  'scores',
  () =>
    id.value
      ? {
          params: {
            path: { experiment_id: id.value },
            query: { series: view.series, ...visiblePositions(), width: 2000, until: view.cutoff },
          },
        }
      : null,
  (asked, signal): Promise<Shapes['ScoresView']> =>
    unwrap(client.GET('/api/v1/experiments/{experiment_id}/scores', { ...asked, signal })),
  { live: () => `experiment ${id.value}`, tick: () => store.tick(`experiment ${id.value}`) },
)

const { budget, threshold, flags, setBudget, drag } = useFlags(id, () => experiment.value?.state, active)

function judged(flag: Shapes['FlagView']) {
  if (flags.value)
    flags.value = {
      ...flags.value,
      flags: flags.value.flags.map((each) => (each.id === flag.id ? flag : each)),
    }
}
async function scan() {
  if (!store.project || !basis.value || !using.value) return
  const params = { path: { project_id: store.project.id } }
  const body = { experiment_id: basis.value.id, contender: using.value }
  if (await attempt(() => unwrap(client.POST('/api/v1/projects/{project_id}/scans', { params, body }))))
    await store.reload()
}

const cutoffTime = computed(() => store.axis?.time(view.cutoff - 1) ?? 0)
const known = computed(() => (flags.value?.flags ?? []).filter((flag) => flag.time <= cutoffTime.value))
const pennants = computed<Pennant[]>(() =>
  (flags.value?.flags ?? []).map((flag) => ({ ...flag, start: flag.time, stop: flag.time })),
)
const lane = computed(() => [
  ...(scores.value
    ? [{ label: 'expected', points: scores.value.expected, color: 'var(--c1)', dash: [6, 3], width: 1.25 }]
    : []),
  ...(line.value ? observedSeries(line.value, cutoffTime.value) : []),
])
const scoreLane = computed(() =>
  scores.value ? [{ label: 'score', points: scores.value.score, color: 'var(--ink-2)', width: 1 }] : [],
)

watchEffect(() => {
  roomActions.run = () => (experiment.value ? void run() : void scan())
  roomActions.stop = () => void stop()
  roomActions.cutoffs = (source.value?.folds ?? []).map((fold) => fold.cutoff)
})
onBeforeUnmount(() => (roomActions.run = roomActions.stop = null))
</script>

<template>
  <RoomFrame strip needs-data :pennants="pennants">
    <template v-if="id">
      <TimeLane
        name="expected"
        title="expected against observed"
        :unit="view.unit"
        :series="lane"
        :pennants="pennants"
        :answer="points"
        class="main"
      />
      <TimeLane
        name="score"
        title="score, robust spreads"
        :series="scoreLane"
        :threshold="threshold"
        from-zero
        show-time
        class="score"
        note="drag the dashed line"
        @threshold="drag"
      />
      <FlagGrid
        class="list panel"
        :flags="flags?.flags ?? []"
        :known-until="cutoffTime"
        :empty="flags ? 'No flag stands above the threshold.' : active ? 'Scoring …' : 'Reading the flags …'"
        @judged="judged"
      />
    </template>
    <div v-else class="nothing">
      <h1>Anomalies</h1>
      <p class="second">
        {{
          basis
            ? 'No scan yet: score every step with a contender, one step ahead and out of sample.'
            : 'A scan needs contenders: run an experiment in Walk-forward first.'
        }}
      </p>
      <button v-if="basis" class="button primary" :disabled="!using" @click="scan">
        Scan with {{ using }}
      </button>
    </div>
    <template #inspector>
      <h1>{{ experiment?.name ?? 'Scan' }}</h1>
      <p v-if="active" class="sentence">
        Scoring, {{ experiment?.done }} of {{ experiment?.cells }} spans done.
      </p>
      <FactList
        v-if="flags"
        :facts="[
          { name: 'flags in this series', value: count(flags.flags.length) },
          { name: 'raised by the cutoff', value: count(known.length) },
          { name: 'flags a week', value: fixed(flags.per_week, 2) },
          { name: 'threshold', value: `${fixed(threshold, 2)} spreads` },
          { name: 'highest score', value: fixed(scores?.highest, 1) },
        ]"
      />
      <label
        >Alert budget, flags a week <NumberField v-model="budget" :min="0.05" @update:model-value="setBudget"
      /></label>
      <p class="second sentence">
        A score is the distance from the one-step forecast in robust spreads; forecast and spread were learned
        before the point's fold began.
      </p>
      <span class="grow"></span>
      <template v-if="basis">
        <label
          >Contender <ChoiceField v-model="using" :options="candidates.map((each) => each.name)"
        /></label>
        <div class="buttons">
          <button v-if="active" class="button primary" @click="stop">Stop (Esc)</button>
          <button v-else class="button" :class="{ primary: !id }" :disabled="!using" @click="scan">
            Scan again
          </button>
        </div>
      </template>
    </template>
  </RoomFrame>
</template>

<style scoped>
.main {
  flex: 3;
}
.score {
  flex: 2;
}
.list {
  flex: 2;
}
label {
  display: grid;
  gap: 4px;
  color: var(--ink-2);
}
.sentence {
  margin: 0;
}
.grow {
  flex: 1;
}
.nothing {
  margin: auto;
  text-align: center;
}
</style>
