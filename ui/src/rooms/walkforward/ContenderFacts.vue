<script setup lang="ts">
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import { attempt, client, unwrap, type Shapes } from '../../api/client'
import CurveChart from '../../charts/CurveChart.vue'
import HeatGrid from '../../charts/HeatGrid.vue'
import XYChart from '../../charts/XYChart.vue'
import { useFetched } from '../../charts/useLine'
import { count, fixed, number } from '../../state/format'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import { markOf } from '../../theme/theme'
import type { BoardRow } from './useExperiment'

const props = defineProps<{
  experiment: Shapes['ExperimentView']
  contender: string
  fold: number
  rows: BoardRow[]
  sentence: string
}>()
const store = useProject()
const view = useView()
const router = useRouter()
const entry = computed(() => props.experiment.contenders.find((each) => each.name === props.contender))
const { data: facts } = useFetched<Shapes['FactsView'] | null>(
  () => [props.experiment.id, props.contender, props.fold, view.series, props.experiment.done],
  async (signal) => {
    const params = {
      path: { experiment_id: props.experiment.id },
      query: { contender: props.contender, fold: props.fold, series: view.series },
    }
    const answer = await client.GET('/api/v1/experiments/{experiment_id}/facts', { params, signal })
    return answer.data ?? null
  },
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
const foldNames = computed(() => props.experiment.folds.map((_, i) => `fold ${i + 1}`))
const stepNames = computed(() =>
  Array.from(
    { length: props.experiment.horizon },
    (_, i) => store.axis?.steps(props.experiment.gap + i + 1) ?? '',
  ),
)
/** In the model's own order; of many window features the largest. */
const parameters = computed(() => {
  const all = Object.entries(facts.value?.parameters ?? {})
  if (!facts.value?.windows) return all.slice(0, 8)
  return all.sort((a, b) => Math.abs(b[1] ?? 0) - Math.abs(a[1] ?? 0)).slice(0, 8)
})

const more = computed(() =>
  facts.value?.windows ? [] : Object.entries(facts.value?.parameters ?? {}).slice(8, 200),
)
const NAMES: Record<string, string> = { loglik: 'log-likelihood', aic: 'AIC', aicc: 'AICc', bic: 'BIC' }
const criteria = computed(() =>
  Object.entries(facts.value?.criteria ?? {}).map(([name, value]) => [NAMES[name] ?? name, value] as const),
)

async function makeOutlook() {
  const params = { path: { experiment_id: props.experiment.id } }
  const made = await attempt(() =>
    unwrap(
      client.POST('/api/v1/experiments/{experiment_id}/outlooks', {
        params,
        body: { contender: props.contender, horizon: null },
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
  <p class="second sentence">
    fold {{ fold + 1 }} of {{ experiment.folds.length
    }}<template v-if="facts">, {{ fixed(facts.seconds, 1) }} s</template>
  </p>
  <p v-if="facts" class="sentence">{{ facts.summary }}</p>
  <CurveChart
    v-if="facts?.loss?.length"
    title="Loss by epoch, flat units:"
    mark-label="kept"
    :mark="facts.kept_epoch"
    :curves="[
      { label: 'learned', values: facts.loss, color: 'var(--ink)' },
      { label: 'held out', values: facts.validation_loss, color: 'var(--c1)', dash: '4 2' },
    ]"
  />
  <XYChart
    v-for="picture in facts?.pictures ?? []"
    :key="picture.title"
    class="picture"
    :title="picture.title"
    :x-label="picture.x_label"
    :series="
      picture.curves.map((curve, i) => ({
        label: curve.label,
        x: curve.x,
        y: curve.y.map((value) => value ?? NaN),
        kind: curve.kind === 'points' ? 'points' : 'line',
        color: ['lower', 'upper', 'unit circle'].includes(curve.label)
          ? 'var(--ink-3)'
          : `var(--c${(i % 8) + 1})`,
      }))
    "
    :marks="picture.marks"
  />
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
  <HeatGrid v-if="byFold.length" caption="Skill by contender and fold" :rows="byFold" :columns="foldNames" />
  <HeatGrid
    v-if="byStep[0]?.values.length"
    caption="Skill by steps ahead"
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
      <tr v-for="[name, value] in parameters" :key="name">
        <td>{{ name }}</td>
        <td class="number">
          {{ number(value) }}
          <span v-if="facts?.standard_errors[name] != null" class="second" title="standard error"
            >± {{ number(facts.standard_errors[name], 2) }}</span
          >
        </td>
      </tr>
      <tr v-if="more.length">
        <td colspan="2">
          <details>
            <summary>{{ more.length }} more</summary>
            <table class="facts">
              <tbody>
                <tr v-for="[name, value] in more" :key="name">
                  <td>{{ name }}</td>
                  <td class="number">{{ number(value) }}</td>
                </tr>
              </tbody>
            </table>
          </details>
        </td>
      </tr>
      <tr v-for="[name, value] in criteria" :key="name">
        <td>{{ name }}</td>
        <td class="number">{{ fixed(value, 2) }}</td>
      </tr>
    </tbody>
  </table>
  <details v-if="facts && facts.tried.length > 1">
    <summary>{{ facts.tried.length }} models tried</summary>
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
  </details>
  <button class="button" @click="makeOutlook">Take to Outlook</button>
</template>

<style scoped>
.sentence {
  margin: 0;
}
.picture {
  flex: 0 0 170px;
}
caption {
  text-align: left;
  color: var(--ink-2);
}
</style>
