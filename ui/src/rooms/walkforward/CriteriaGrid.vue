<script setup lang="ts">
import { computed } from 'vue'
import { client, unwrap, type Shapes } from '../../api/client'
import { useAnswer } from '../../state/answers'
import { fixed } from '../../state/format'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import AnswerNote from '../../widgets/AnswerNote.vue'
import DataGrid from '../../widgets/DataGrid.vue'
import type { GridColumn } from '../../widgets/grid'

/** Information criteria side by side where they compare, and beside them the rank after the cutoff. */
const props = defineProps<{ experiment: Shapes['ExperimentView']; fold: number }>()
const store = useProject()
const view = useView()
const answer = useAnswer(
  'criteria',
  () => ({
    params: {
      path: { experiment_id: props.experiment.id },
      query: { fold: props.fold, series: view.series },
    },
  }),
  (asked, signal): Promise<Shapes['CriteriaView']> =>
    unwrap(client.GET('/api/v1/experiments/{experiment_id}/criteria', { ...asked, signal })),
  {
    live: () => `experiment ${props.experiment.id}`,
    tick: () => store.tick(`experiment ${props.experiment.id}`),
  },
)
type Row = Shapes['RankedView']
const rows = computed<Row[]>(() =>
  [...(answer.data.value?.entrants ?? [])].sort((a, b) => a.group.localeCompare(b.group)),
)
const criterion = (name: string, title: string): GridColumn<Row> => ({
  name,
  title,
  value: (row) => row.criteria[name] ?? null,
  text: (row) => fixed(row.criteria[name], 1),
})
const rank = (value: number | null) => (value === null ? '–' : String(value))
const columns = computed<GridColumn<Row>[]>(() => [
  { name: 'contender', title: 'contender', value: (row) => row.contender, words: true, frozen: true },
  { name: 'group', title: 'compares among', value: (row) => row.group, words: true },
  criterion('loglik', 'log likelihood'),
  criterion('aic', 'AIC'),
  criterion('aicc', 'AICc'),
  criterion('bic', 'BIC'),
  { name: 'rank', title: 'rank inside', value: (row) => row.rank, text: (row) => rank(row.rank) },
  {
    name: 'after',
    title: 'rank after the cutoff',
    value: (row) => row.rank_after,
    text: (row) => rank(row.rank_after),
    className: (row) =>
      row.rank !== null && row.rank_after !== null && row.rank !== row.rank_after ? 'worse' : '',
    tip: (row) => `${answer.data.value?.metric.title ?? ''} ${fixed(row.error, 3)} after the cutoff`,
  },
])
</script>

<template>
  <AnswerNote v-if="answer.loading.value || answer.failure.value" :answer="answer" what="the criteria" />
  <DataGrid
    v-else
    label="Information criteria"
    :rows="rows"
    :columns="columns"
    :key-of="(row) => row.contender"
    empty="None of these contenders has a likelihood."
  />
</template>
