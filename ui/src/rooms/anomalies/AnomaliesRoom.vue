<script setup lang="ts">
import { computed, onBeforeUnmount, watchEffect } from 'vue'
import { client, type Shapes, unwrap } from '../../api/client'
import { observedSeries, type Pennant } from '../../charts/lane'
import TimeLane from '../../charts/TimeLane.vue'
import { useLine, visiblePositions } from '../../charts/useLine'
import { useAnswer } from '../../state/answers'
import { roomActions } from '../../state/keys'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import RoomFrame from '../../widgets/RoomFrame.vue'
import FlagGrid from './FlagGrid.vue'
import { keyOf, lasting } from './flags'
import ScanFacts from './ScanFacts.vue'
import SeriesMap from './SeriesMap.vue'
import { useScan } from './useScan'
import { useTriage } from './useTriage'
import VerdictForm from './VerdictForm.vue'

const store = useProject()
const view = useView()
const scanning = useScan()
const { id, scan, found, flags, active, threshold, answer } = scanning
const triage = useTriage(scanning)
const points = useLine()
const line = points.data

const { data: scores } = useAnswer(
  'scores',
  () =>
    id.value
      ? {
          params: {
            path: { scan_id: id.value },
            query: { series: view.series, ...visiblePositions(), width: 2000 },
          },
        }
      : null,
  (asked, signal): Promise<Shapes['ScoresView']> =>
    unwrap(client.GET('/api/v1/scans/{scan_id}/scores', { ...asked, signal })),
  { live: () => `scan ${id.value}`, tick: () => store.tick(`scan ${id.value}`), rest: 4 },
)

const cutoffTime = computed(() => store.axis?.time(view.cutoff - 1) ?? 0)
const pennants = computed<Pennant[]>(() =>
  flags.value
    .filter((flag) => flag.series === view.series)
    .map((flag, id) => ({ ...flag, id, start: flag.time, stop: flag.last })),
)
const lane = computed(() => [
  ...(scores.value
    ? [{ label: 'expected', points: scores.value.expected, color: 'var(--c1)', dash: [6, 3], width: 1.25 }]
    : []),
  ...(line.value ? observedSeries(line.value, cutoffTime.value) : []),
])
const scoreLane = computed(() =>
  scores.value ? [{ label: 'evidence', points: scores.value.score, color: 'var(--ink-2)', width: 1 }] : [],
)
const note = computed(() => {
  const flag = triage.flag.value
  if (!flag || flag.series !== view.series) return ''
  const step = store.dataset?.grid.step ?? ''
  const late = flag.raised === null || !store.axis ? null : store.axis.position(flag.raised) - flag.start
  const raised = late === null ? '' : `, raised after ${lasting(late, step)}`
  return `${flag.named ?? flag.kind}, ${lasting(flag.stop - flag.start, step)}${raised}`
})
/** The span of the flag that is looked at, half a step around. */
const tinted = computed<[number, number] | null>(() => {
  const flag = triage.flag.value
  if (!flag || flag.series !== view.series || !store.axis) return null
  const half = (store.axis.time(1) - store.axis.time(0)) / 2
  return [flag.time - half, flag.last + half]
})
/** The flag that stands nearest to a time of the series. */
function pick(time: number) {
  const reach = (view.span[1] - view.span[0]) / 60
  const near = flags.value
    .filter((flag) => flag.series === view.series)
    .map((flag) => ({ flag, off: Math.max(flag.time - time, time - flag.last, 0) }))
    .sort((a, b) => a.off - b.off)[0]
  if (near && near.off < reach) triage.picked.value = keyOf(near.flag)
}
function run() {
  if (scan.value && ['failed', 'stopped'].includes(scan.value.state)) void scanning.resume()
  else if (!active.value)
    void scanning.start(
      scan.value
        ? {
            mode: scan.value.mode,
            using: scan.value.using,
            delay: scan.value.delay,
            until: scan.value.mode === 'looking_back' ? view.cutoff : null,
            contender: scan.value.contender,
            experiment_id: scan.value.using === 'contender' ? store.choices.experiment_id : null,
          }
        : {},
    )
}
function leave() {
  if (triage.group.value.length) triage.group.value = []
  else if (active.value) void scanning.stop()
}
watchEffect(() => {
  roomActions.run = run
  roomActions.stop = leave
  roomActions.cutoffs = []
  roomActions.undo = scanning.undo
  roomActions.keys = {
    n: () => triage.step(1),
    b: () => triage.step(-1),
    c: () => triage.verdict('right'),
    d: () => triage.verdict('wrong'),
    s: () => void triage.like(),
    a: () => triage.adjust(),
    h: () => triage.reach(-1, 0),
    j: () => triage.reach(1, 0),
    i: () => triage.reach(0, -1),
    o: () => triage.reach(0, 1),
    l: () => (triage.labelling.value = Boolean(triage.flag.value || triage.selected.value)),
  }
})
onBeforeUnmount(() => {
  roomActions.run = roomActions.stop = roomActions.undo = null
  roomActions.keys = {}
})
const empty = computed(() => {
  if (active.value) return 'Looking …'
  if (!found.value) return 'Reading the flags …'
  return flags.value.length ? 'No flag is like that.' : 'Nothing is flagged within the budget.'
})
const labelled = computed(() => {
  const span = triage.selected.value
  if (span) return `${lasting(span.stop - span.start, store.dataset?.grid.step ?? '')} of ${span.key}`
  const many = triage.group.value.length
  return many ? `${many} flags` : (triage.flag.value?.key ?? '')
})
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
        :tinted="tinted"
        adjustable
        :answer="points"
        :note="note"
        class="main"
        @pick="pick"
        @adjust="triage.adjust()"
      />
      <TimeLane
        name="evidence"
        title="evidence"
        :series="scoreLane"
        :threshold="threshold"
        :tinted="tinted"
        from-zero
        show-time
        class="score"
        note="drag the dashed line"
        @threshold="scanning.drag"
        @pick="pick"
      />
      <SeriesMap
        v-if="(store.dataset?.series.length ?? 0) > 1"
        class="map"
        :flags="flags"
        :picked="triage.picked.value"
        @pick="triage.go"
      />
      <FlagGrid
        class="flags"
        :triage="triage"
        :flags="flags"
        :explained="found?.explained.length ?? 0"
        :empty="answer.failure.value || empty"
      />
      <VerdictForm
        v-if="triage.labelling.value"
        :of="labelled"
        :kind="triage.flag.value?.named ?? (triage.selected.value ? '' : (triage.flag.value?.kind ?? ''))"
        :note="triage.flag.value?.note ?? ''"
        :kinds="triage.kinds.value"
        @say="triage.label"
        @close="triage.labelling.value = false"
      />
    </template>
    <div v-else class="nothing">
      <h1>Anomalies</h1>
      <p class="second">
        Not looked through yet: what would have been raised at each moment, and what is seen in the end.
      </p>
      <button class="button primary" @click="run">Look through the data (r)</button>
    </div>
    <template #inspector><ScanFacts :scanning="scanning" /></template>
  </RoomFrame>
</template>

<style scoped>
.main {
  flex: 3;
}
.score {
  flex: 1.6;
}
.map {
  flex: 1.8;
}
.flags {
  flex: 3;
}
.nothing {
  margin: auto;
  text-align: center;
}
</style>
