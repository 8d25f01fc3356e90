<script setup lang="ts">
import FoldedPart from '../../widgets/FoldedPart.vue'
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import { attempt, client, unwrap, type Shapes } from '../../api/client'
import HeatChart from '../../charts/HeatChart.vue'
import type { PlotSeries } from '../../charts/plot'
import PlotChart from '../../charts/PlotChart.vue'
import { useAnswer } from '../../state/answers'
import { bytes, count, fixed, number } from '../../state/format'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import { markOf } from '../../theme/theme'
import CoefficientTable from './CoefficientTable.vue'
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
const losses = computed<PlotSeries[]>(() => {
  const line = (label: string, y: (number | null)[], color: string, dash: number[] = []): PlotSeries => ({
    label,
    kind: 'line',
    x: y.map((_, i) => i + 1),
    y,
    color,
    dash,
  })
  return facts.value?.loss?.length
    ? [
        line('learned', facts.value.loss, 'var(--ink)'),
        line('held out', facts.value.validation_loss ?? [], 'var(--c1)', [4, 2]),
      ]
    : []
})
const AROUND = ['lower', 'upper', 'unit circle', 'equal', 'independent']
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
const NAMES: Record<string, string> = {
  loglik: 'log-likelihood',
  aic: 'AIC',
  aicc: 'AICc',
  bic: 'BIC',
  r_squared: 'R² in sample',
}
const criteria = computed(() =>
  Object.entries(facts.value?.criteria ?? {}).map(([name, value]) => [NAMES[name] ?? name, value] as const),
)

async function makeOutlook() {
  const params = { path: { experiment_id: props.experiment.id } }
  const made = await attempt(() =>
    unwrap(
      client.POST('/api/v1/experiments/{experiment_id}/outlooks', {
        params,
        body: { contender: props.contender, horizon: null, ahead: 'given' },
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
  <p v-if="fold === null" class="second sentence">{{ note || 'Nothing is learned yet.' }}</p>
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
  <PlotChart
    v-if="losses.length"
    class="picture"
    title="Loss by epoch, flat units"
    x-label="epoch"
    :series="losses"
    :marks="facts?.kept_epoch ? [{ x: facts.kept_epoch, label: 'kept' }] : []"
    labelled
  />
  <PlotChart
    v-for="picture in facts?.pictures ?? []"
    :key="picture.title"
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
  <table v-if="facts && facts.one_step.inside !== null" class="facts">
    <caption>
      Error one step ahead (root mean square)
    </caption>
    <tbody>
      <tr>
        <td>inside what it learned</td>
        <td class="number">{{ number(facts.one_step.inside) }}</td>
      </tr>
      <tr>
        <td>after the cutoff</td>
        <td class="number">{{ number(facts.one_step.after) }}</td>
      </tr>
      <tr v-if="facts.one_step.last_value !== null">
        <td>last value, after the cutoff</td>
        <td class="number">{{ number(facts.one_step.last_value) }}</td>
      </tr>
      <tr v-if="outOfSample">
        <td colspan="2" class="second warned">{{ outOfSample }}</td>
      </tr>
    </tbody>
  </table>
  <table v-if="facts?.checks.length" class="facts">
    <caption>
      Residuals, one step ahead
    </caption>
    <tbody>
      <tr v-for="check in facts.checks" :key="check.what" :title="check.verdict">
        <td>{{ check.what }}</td>
        <td :class="check.holds ? 'better' : 'worse'">
          {{ check.holds ? 'holds' : 'does not hold' }},
          <span class="number second">p {{ fixed(check.p_value, 3) }}</span>
        </td>
      </tr>
    </tbody>
  </table>
  <HeatChart v-if="byFold.length" title="Skill by fold" :rows="byFold" :columns="foldNames" />
  <HeatChart
    v-if="byStep[0]?.values.length"
    title="Skill by steps ahead"
    :rows="byStep"
    :columns="stepNames"
  />
  <table class="facts">
    <tbody>
      <tr>
        <td>chain</td>
        <td>{{ entry?.chain }}</td>
      </tr>
      <tr v-if="facts?.windows">
        <td>windows</td>
        <td class="number">{{ count(facts.windows) }}</td>
      </tr>
      <tr v-if="entry && entry.way !== 'own'">
        <td>many steps</td>
        <td>{{ entry.way }}</td>
      </tr>
      <tr>
        <td>seed</td>
        <td class="number">{{ experiment.seed }}</td>
      </tr>
      <tr v-for="[name, value] in criteria" :key="name">
        <td>{{ name }}</td>
        <td class="number">{{ fixed(value, 2) }}</td>
      </tr>
    </tbody>
  </table>
  <CoefficientTable v-if="facts?.coefficients.length" :facts="facts" />
  <FoldedPart v-if="facts && facts.tried.length > 1" :title="`${facts.tried.length} models tried`">
    <table class="facts">
      <tbody>
        <tr v-for="each in facts.tried" :key="each.label" :title="each.reason">
          <td>{{ each.label }}</td>
          <td class="number">
            {{ each.criterion === null ? each.reason || '–' : fixed(each.criterion, 2) }}
          </td>
        </tr>
      </tbody>
    </table>
  </FoldedPart>
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
caption {
  text-align: left;
  color: var(--ink-2);
}
</style>
