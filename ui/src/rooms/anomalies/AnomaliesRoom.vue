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
import DataGrid from '../../widgets/DataGrid.vue'
import type { GridColumn } from '../../widgets/grid'
import RoomFrame from '../../widgets/RoomFrame.vue'
import { useExperiment } from '../walkforward/useExperiment'
import { useFlags } from './useFlags'

const store = useProject()
const view = useView()
const id = computed(() => store.choices.scan_id)
const { experiment, active, run, stop } = useExperiment(id, false)
const points = useLine()
const line = points.data
const judged = computed(() =>
  store.project?.experiments.find((each) => each.id === store.choices.experiment_id),
)
const using = ref('')
const { experiment: source } = useExperiment(
  computed(() => store.choices.experiment_id),
  false,
)
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

const selected = ref<number | null>(null)
const COLUMNS: GridColumn<Shapes['FlagView']>[] = [
  {
    name: 'time',
    title: 'time',
    value: (flag) => flag.time,
    text: (flag) => store.axis?.input(flag.time) ?? '',
    words: true,
    className: () => 'number',
  },
  { name: 'kind', title: 'kind', value: (flag) => flag.kind, words: true },
  { name: 'steps', title: 'steps', value: (flag) => flag.stop - flag.start },
  { name: 'score', title: 'score', value: (flag) => flag.score, text: (flag) => fixed(flag.score, 2) },
  { name: 'verdict', title: 'verdict', value: (flag) => flag.verdict, words: true },
]
async function judge(flag: Shapes['FlagView'], verdict: 'open' | 'confirmed' | 'dismissed') {
  const params = { path: { flag_id: flag.id } }
  const next = flag.verdict === verdict ? 'open' : verdict
  const answer = await attempt(() =>
    unwrap(client.PATCH('/api/v1/flags/{flag_id}', { params, body: { verdict: next } })),
  )
  if (answer && flags.value)
    flags.value = {
      ...flags.value,
      flags: flags.value.flags.map((each) => (each.id === answer.id ? answer : each)),
    }
}
function go(flag: Shapes['FlagView']) {
  selected.value = flag.id
  const step = (store.axis?.grid.seconds ?? 86400) * 60
  view.setSpan(flag.time - step * 2, flag.time + step * 2)
}
async function scan() {
  if (!store.project || !judged.value || !using.value) return
  const params = { path: { project_id: store.project.id } }
  const body = { experiment_id: judged.value.id, contender: using.value }
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
const ordered = computed(() => [...(flags.value?.flags ?? [])].sort((a, b) => b.score - a.score))

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
      <DataGrid
        class="list panel"
        label="Flags"
        :rows="ordered"
        :columns="COLUMNS"
        :key-of="(flag) => flag.id"
        :selected="selected"
        :row-class="(flag) => (flag.time > cutoffTime ? 'later' : '')"
        :empty="flags ? 'No flag stands above the threshold.' : active ? 'Scoring …' : 'Reading the flags …'"
        @select="go"
      >
        <template #cell-verdict="{ row }">
          <button
            class="button quiet"
            :aria-pressed="row.verdict === 'confirmed'"
            @click.stop="judge(row, 'confirmed')"
          >
            {{ row.verdict === 'confirmed' ? '◆ confirmed' : 'confirm' }}
          </button>
          <button
            class="button quiet"
            :aria-pressed="row.verdict === 'dismissed'"
            @click.stop="judge(row, 'dismissed')"
          >
            {{ row.verdict === 'dismissed' ? '⟍ dismissed' : 'dismiss' }}
          </button>
        </template>
      </DataGrid>
    </template>
    <div v-else class="nothing">
      <h1>Anomalies</h1>
      <p class="second">
        {{
          judged
            ? 'No scan yet: score every step with a contender, one step ahead and out of sample.'
            : 'A scan needs contenders: run an experiment in Walk-forward first.'
        }}
      </p>
      <button v-if="judged" class="button primary" :disabled="!using" @click="scan">
        Scan with {{ using }}
      </button>
    </div>
    <template #inspector>
      <h1>{{ experiment?.name ?? 'Scan' }}</h1>
      <p v-if="active" class="sentence">
        Scoring, {{ experiment?.done }} of {{ experiment?.cells }} spans done.
      </p>
      <table v-if="flags" class="facts">
        <tbody>
          <tr>
            <td>flags in this series</td>
            <td class="number">{{ count(flags.flags.length) }}</td>
          </tr>
          <tr>
            <td>raised by the cutoff</td>
            <td class="number">{{ count(known.length) }}</td>
          </tr>
          <tr>
            <td>flags a week</td>
            <td class="number">{{ fixed(flags.per_week, 2) }}</td>
          </tr>
          <tr>
            <td>threshold</td>
            <td class="number">{{ fixed(threshold, 2) }} spreads</td>
          </tr>
          <tr>
            <td>highest score</td>
            <td class="number">{{ fixed(scores?.highest, 1) }}</td>
          </tr>
        </tbody>
      </table>
      <label
        >Alert budget, flags a week <NumberField v-model="budget" :min="0.05" @update:model-value="setBudget"
      /></label>
      <p class="second sentence">
        A score is the distance from the one-step forecast in robust spreads; forecast and spread were learned
        before the point's fold began.
      </p>
      <span class="grow"></span>
      <template v-if="judged">
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
:deep(.later) {
  color: var(--ink-2);
  font-style: italic;
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
