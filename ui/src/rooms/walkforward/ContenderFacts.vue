<script setup lang="ts">
import FoldedPart from '../../widgets/FoldedPart.vue'
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import { attempt, client, unwrap, type Shapes } from '../../api/client'
import HeatChart from '../../charts/HeatChart.vue'
import PlotChart from '../../charts/PlotChart.vue'
import { useAnswer } from '../../state/answers'
import { bytes, count, fixed, number } from '../../state/format'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import { markOf } from '../../theme/theme'
import FactList from '../../widgets/FactList.vue'
import SignPart from './SignPart.vue'
import CalibrationPart from './CalibrationPart.vue'
import { NAMES } from './criteria'
import CheckList from './CheckList.vue'
import CoefficientTable from './CoefficientTable.vue'
import LossCurves from './LossCurves.vue'
import NamedValues from './NamedValues.vue'
import { asUsual } from '../outlook/asked'
import NetworkDrawing from './NetworkDrawing.vue'
import type { BoardRow } from './useExperiment'

const props = defineProps<{
  experiment: Shapes['ExperimentView']
  contender: string
  fold: number | null
  learned: boolean
  note: string
  rows: BoardRow[]
  sentence: string
}>()
const store = useProject()
const view = useView()
const router = useRouter()
const entry = computed(() => props.experiment.contenders.find((each) => each.name === props.contender))
// Asked only for what is there: nothing had learned by a cutoff left of the first fold.
const { data: facts } = useAnswer(
  'facts',
  () =>
    props.fold === null || !props.learned
      ? null
      : {
          params: {
            path: { experiment_id: props.experiment.id },
            query: { contender: props.contender, fold: props.fold, series: view.series },
          },
        },
  (asked, signal): Promise<Shapes['FactsView']> =>
    unwrap(client.GET('/api/v1/experiments/{experiment_id}/facts', { ...asked, signal })),
  { aside: true },
)
const learners = computed(() => props.rows.filter((row) => !row.baseline))
const byFold = computed(() =>
  learners.value.map((row) => ({
    label: row.contender,
    values: row.skill_by_fold,
    css: markOf(props.experiment.contenders, row.contender).css,
  })),
)
const byStep = computed(() => {
  const row = props.rows.find((each) => each.contender === props.contender)
  return row
    ? [
        {
          label: row.contender,
          values: row.skill_by_step,
          css: markOf(props.experiment.contenders, row.contender).css,
        },
      ]
    : []
})
const foldNames = computed(() => props.experiment.folds.map((_, i) => String(i + 1)))
const stepNames = computed(() =>
  Array.from(
    { length: props.experiment.horizon },
    (_, i) => store.axis?.steps(props.experiment.gap + i + 1) ?? '',
  ),
)
const AROUND = ['lower', 'upper', 'unit circle', 'equal', 'independent', 'series']
/** Grey for what is only there to compare with; the rest in the order of the palette. */
function colorOf(picture: Shapes['PictureView'], label: string): string {
  const own = picture.curves.map((each) => each.label).filter((each) => !AROUND.includes(each))
  return AROUND.includes(label) ? 'var(--ink-3)' : `var(--c${(own.indexOf(label) % 8) + 1})`
}
const outOfSample = computed(() => {
  const step = facts.value?.one_step
  if (!step || step.inside === null || step.after === null) return ''
  const worse = step.after / step.inside
  return worse > 1.15
    ? `${fixed(worse, 2)} times as far off once it has not seen the values: how well it fits is not how well it forecasts`
    : 'how well it fits is not how well it forecasts; the board ranks by the latter'
})
/** An error in original units, and behind the chain where there is one. */
function withFlat(error: number | null, flat: number | null): string {
  return facts.value?.stages.length ? `${number(error)}, flat ${number(flat)}` : number(error)
}
const criteria = computed(() =>
  Object.entries(facts.value?.criteria ?? {}).map(([name, value]) => [NAMES[name] ?? name, value] as const),
)

const learnedAt = computed(() => `/api/v1/experiments/${props.experiment.id}/learned`)
const asked = computed(() => {
  const query = { contender: props.contender, fold: String(props.fold), series: String(view.series) }
  return `?${new URLSearchParams(query)}`
})

async function makeOutlook() {
  const params = { path: { experiment_id: props.experiment.id } }
  const made = await attempt(() =>
    unwrap(
      client.POST('/api/v1/experiments/{experiment_id}/outlooks', {
        params,
        body: asUsual(props.contender),
      }),
    ),
  )
  if (!made || !store.project) return
  await store.reload()
  await router.push({ name: 'outlook', params: { project: store.project.id } })
}
</script>

<template>
  <h1>{{ contender }}</h1>
  <p v-if="fold === null" class="second sentence">{{ note }}</p>
  <p v-else class="second sentence">
    fold {{ fold + 1 }} of {{ experiment.folds.length
    }}<template v-if="facts"
      >, {{ number(facts.cpu_seconds / facts.series, 2) }} CPU s a series in
      {{ number(facts.seconds / facts.series, 2) }} s<template v-if="facts.series > 1">
        (of {{ facts.series }})</template
      >, {{ bytes(facts.bytes) }} learned<template v-if="facts.memory != null"
        >, {{ facts.memory < 1e6 ? 'under 1 MB' : bytes(facts.memory) }} of memory</template
      ></template
    >
  </p>
  <p v-if="facts" class="sentence">{{ facts.summary }}</p>
  <p v-if="facts" class="second">{{ facts.safeguards }}</p>
  <slot />
  <LossCurves :experiment="experiment.id" :contender="contender" :facts="facts" />
  <NetworkDrawing v-if="facts?.layers.length" :layers="facts.layers" />
  <template v-for="picture in facts?.pictures ?? []" :key="picture.title">
    <NamedValues v-if="picture.names.length" :picture="picture" />
    <PlotChart
      v-else
      class="picture"
      :title="picture.title"
      :x-label="picture.x_label"
      :series="
        picture.curves.map((curve) => ({
          label: curve.label,
          x: curve.x,
          y: curve.y,
          kind: curve.kind === 'points' ? 'points' : 'line',
          color: colorOf(picture, curve.label),
        }))
      "
      :marks="picture.marks"
      :labelled="picture.curves.length > 1"
    />
  </template>
  <FactList
    v-if="facts && facts.one_step.inside !== null"
    caption="Error one step ahead (root mean square)"
    :facts="[
      { name: 'inside what it learned', value: withFlat(facts.one_step.inside, facts.one_step.flat_inside) },
      { name: 'after the cutoff', value: withFlat(facts.one_step.after, facts.one_step.flat_after) },
      facts.one_step.last_value !== null && {
        name: 'last value, after the cutoff',
        value: number(facts.one_step.last_value),
      },
    ]"
  >
    <tr v-if="outOfSample">
      <td colspan="2" class="second warned">{{ outOfSample }}</td>
    </tr>
  </FactList>
  <CheckList v-if="facts?.checks.length" caption="Residuals, one step ahead" :checks="facts.checks" />
  <CheckList
    v-if="facts?.checks_after.length"
    caption="Errors after the cutoff, one step ahead"
    :checks="facts.checks_after"
  />
  <HeatChart v-if="byFold.length" title="Skill by fold" :rows="byFold" :columns="foldNames" />
  <HeatChart
    v-if="byStep[0]?.values.length"
    title="Skill by steps ahead"
    :rows="byStep"
    :columns="stepNames"
  />
  <FactList
    :facts="[
      { name: 'chain', value: entry?.chain ?? '', words: true },
      facts?.windows ? { name: 'windows', value: count(facts.windows) } : null,
      entry && entry.way !== 'own' ? { name: 'many steps', value: entry.way, words: true } : null,
      { name: 'seed', value: experiment.seed },
      ...criteria.map(([name, value]) => ({ name, value: fixed(value, 2) })),
    ]"
  />
  <FoldedPart v-if="experiment.levels.length && experiment.done" title="Do its ranges hold?">
    <CalibrationPart
      :experiment="experiment.id"
      :contender="contender"
      :gap="experiment.gap"
      :color="markOf(experiment.contenders, contender).css"
    />
  </FoldedPart>
  <FoldedPart v-if="experiment.done" title="Did it say the right direction?">
    <SignPart :experiment="experiment.id" :contender="contender" />
  </FoldedPart>
  <CoefficientTable v-if="facts?.coefficients.length" :facts="facts" />
  <FoldedPart v-if="facts && facts.tried.length > 1" :title="`${facts.tried.length} models tried`">
    <FactList
      :facts="
        facts.tried.map((each) => ({
          name: each.label,
          value: each.criterion === null ? each.reason || '–' : fixed(each.criterion, 2),
          hint: each.reason,
        }))
      "
    />
  </FoldedPart>
  <p v-if="facts" class="second sentence">
    What it learned here, as a file:
    <a :href="`${learnedAt}.npz${asked}`" download>archive</a
    ><template v-if="facts.graph"
      >, <a :href="`${learnedAt}.onnx.zip${asked}`" download>ONNX with its chain and plan</a></template
    >.
  </p>
  <button class="button" @click="makeOutlook">Take to Outlook</button>
</template>

<style scoped>
.sentence {
  margin: 0;
}
.warned {
  text-align: left;
}
.picture {
  flex: 0 0 190px;
}
</style>
