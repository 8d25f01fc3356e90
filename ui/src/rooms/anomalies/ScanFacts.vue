<script setup lang="ts">
import { computed } from 'vue'
import type { Shapes } from '../../api/client'
import PlotChart from '../../charts/PlotChart.vue'
import type { PlotSeries } from '../../charts/plot'
import { useRouter } from 'vue-router'
import { count, fixed, number } from '../../state/format'
import { useProject } from '../../state/project'
import FactList from '../../widgets/FactList.vue'
import BudgetCurve from './BudgetCurve.vue'
import BudgetForm from './BudgetForm.vue'
import DrillFacts from './DrillFacts.vue'
import { DETECTORS, lasting } from './flags'
import ScanForm from './ScanForm.vue'
import type { Scanning } from './useScan'

/** What the scan is, what its budget costs and finds, what a drill would have caught, and what is made of the flags. */
const props = defineProps<{ scanning: Scanning }>()
const store = useProject()
const { scan, found, drill, curves, active } = props.scanning
const step = computed(() => store.dataset?.grid.step ?? '')
const title = computed(() => {
  const now = scan.value
  if (!now) return 'Anomalies'
  if (now.mode === 'looking_back') return 'Looking back'
  return now.delay ? `As-of, ${lasting(now.delay, step.value)} late` : 'As-of, at once'
})
const by = computed(() => {
  const now = scan.value
  if (!now) return ''
  const who = now.using === 'contender' ? `errors of ${now.contender}` : (DETECTORS[now.using] ?? now.using)
  if (now.mode === 'as_of') return `${who}, as of every moment`
  const until = now.until ?? store.axis?.end ?? 0
  return `${who}, from ${store.axis?.text(store.axis.time(until - 1)) ?? ''}`
})
const verdicts = computed(() => {
  const precision = found.value?.precision
  if (!precision?.judged) return null
  const wrong = precision.judged - precision.right
  return {
    name: 'verdicts so far',
    value: `${precision.right} right, ${wrong} wrong`,
    hint: `${fixed(100 * (precision.share ?? 0), 0)} % right, with 95 % confidence ${fixed(100 * precision.low, 0)} to ${fixed(100 * precision.high, 0)} %`,
  }
})
/** Precision by recall, as verdicts and labels measure them, once they tell anything. */
const measured = computed<PlotSeries[]>(() => {
  const points = curves.value?.labelled ?? []
  if ((points.at(-1)?.precision.judged ?? 0) < 5) return []
  const x = points.map((each) => each.recall ?? 0)
  const shares = (of: (each: Shapes['LabelledView']) => number | null) => points.map(of)
  return [
    {
      label: 'interval',
      kind: 'spans',
      x,
      y: shares((each) => each.precision.low),
      to: shares((each) => each.precision.high),
      color: 'var(--ink-3)',
      alpha: 0.5,
    },
    {
      label: 'precision',
      kind: 'line',
      x,
      y: shares((each) => each.precision.share),
      color: 'var(--better)',
    },
  ]
})
const setAt = (at: number) => {
  const point = curves.value?.labelled[at]
  if (point) props.scanning.drag(point.threshold)
}
const advised = computed(() => curves.value?.advised ?? null)
const router = useRouter()
async function compare() {
  if (await props.scanning.compare())
    await router.push({ name: 'walkforward', params: { project: store.project?.id } })
}
const late = (steps: number | null | undefined) =>
  steps === null || steps === undefined ? '' : lasting(Math.round(steps), step.value)
const right = computed(() => props.scanning.flags.value.filter((flag) => flag.verdict === 'right').length)
</script>

<template>
  <h1>{{ title }}</h1>
  <p class="second sentence">{{ by }}</p>
  <ScanForm :scanning="scanning" />
  <p v-if="found?.beyond" class="sentence worse">
    It knows what lies after the cutoff: look back again from there.
  </p>
  <template v-if="scan && !active">
    <BudgetForm :scanning="scanning" />
    <BudgetCurve
      v-if="curves && found"
      :points="curves.curve"
      :per-week="found.per_week"
      :threshold="found.threshold"
      @threshold="scanning.drag"
    />
    <DrillFacts :scanning="scanning" />
    <FactList
      :facts="[
        drill?.late !== null &&
          drill?.late !== undefined && {
            name: 'found late by',
            value: `${late(drill.late)} (9 of 10: ${late(drill.latest)})`,
          },
        drill?.named !== null &&
          drill?.named !== undefined && { name: 'named rightly', value: `${fixed(100 * drill.named, 0)} %` },
        verdicts,
        drill?.state === 'done' && {
          name: 'echoes of a fault',
          value: drill.echoes
            ? `${drill.echoes} in ${count(drill.planted)}`
            : `none in ${count(drill.planted)}`,
        },
        drill?.unverified !== null &&
          drill?.unverified !== undefined && {
            name: 'unverified in 1,000 points',
            value: number(drill.unverified, 2),
            hint: 'Flags of the drill on nothing planted',
          },
      ]"
    />
    <PlotChart
      v-if="measured.length"
      class="measured"
      title="Precision by recall, from verdicts"
      x-label="share of what is right that is caught"
      from-zero
      :series="measured"
      @pick="setAt"
    />
    <p v-if="advised !== null" class="second sentence">
      Nine of ten judged flags above {{ fixed(advised, 1) }} are right.
      <button class="link" @click="scanning.drag(advised)">Set it</button>
    </p>
    <span class="grow"></span>
    <div class="pair uses">
      <button class="button" :disabled="!right" @click="scanning.use({ way: 'mask', which: 'right' })">
        Mask what is right
      </button>
      <button class="button" :disabled="!right" @click="scanning.use({ way: 'repair', which: 'right' })">
        Repair a copy
      </button>
    </div>
    <button v-if="store.choices.experiment_id" class="button" @click="compare">
      Learn with and without them
    </button>
    <p class="second sentence files">
      <a
        class="link"
        v-for="each in ['csv', 'parquet', 'json']"
        :key="each"
        :href="`/api/v1/scans/${scan.id}/table?format=${each}`"
        >{{ each.toUpperCase() }}</a
      >
    </p>
    <p class="second sentence number">c right d wrong l label s like this</p>
  </template>
</template>

<style scoped>
.sentence {
  margin: 0;
}
h1 + .sentence {
  margin-top: -8px;
}
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 8px;
}
.pair > :only-child {
  grid-column: 1 / -1;
}
.uses {
  grid-template-columns: auto auto;
  gap: 6px;
}
.uses .button {
  padding: 0 4px;
  font-size: 12px;
}
.measured {
  height: 150px;
  flex: none;
}
.grow {
  flex: 1;
}
.files {
  display: flex;
  gap: 12px;
}
</style>
