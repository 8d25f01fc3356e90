<script setup lang="ts">
import { computed } from 'vue'
import { client, unwrap, type Shapes } from '../../api/client'
import { useAnswer } from '../../state/answers'
import { counted, fixed } from '../../state/format'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import DataGrid from '../../widgets/DataGrid.vue'
import type { GridColumn } from '../../widgets/grid'

/** Sums and the like over days, months, all steps, of one series or of all together, with ranges from joint paths. */
const props = defineProps<{
  outlook: Shapes['OutlookView']
  by: string | null
  how: 'sum' | 'mean' | 'last' | 'max' | 'min'
  together: boolean
  /** Whether ranges stand beside those of errors that have nothing to do with each other. */
  apart: boolean
  decimals: number
  /** Scenarios that are looked at beside it. */
  beside: { outlook: Shapes['OutlookView']; name: string }[]
}>()
const store = useProject()
const view = useView()
const keys = computed(() => (store.dataset?.series ?? []).map((each) => each.key))
type Body = Shapes['TotalsQuery']
const ask = (outlook_id: number, body: Body, signal: AbortSignal): Promise<Shapes['TotalsView']> =>
  unwrap(
    client.POST('/api/v1/outlooks/{outlook_id}/totals', { params: { path: { outlook_id } }, body, signal }),
  )
const body = computed<Body>(() => ({
  by: props.by,
  how: props.how,
  series: props.together ? null : view.series,
  groups: props.together ? { 'all series': keys.value } : null,
  joint: true,
}))
const of = () => ({ id: props.outlook.id, seed: props.outlook.seed, body: body.value })
const answer = useAnswer('outlook totals', of, (asked, signal) => ask(asked.id, asked.body, signal))
const { data: alone } = useAnswer(
  'outlook totals apart',
  () => (props.apart ? of() : null),
  (asked, signal) => ask(asked.id, { ...asked.body, joint: false }, signal),
)
const { data: scenarios } = useAnswer(
  'outlook totals beside',
  () => (props.beside.length ? { ids: props.beside.map((each) => each.outlook.id), body: body.value } : null),
  (asked, signal) => Promise.all(asked.ids.map((id) => ask(id, asked.body, signal))),
)
const found = answer.data
interface Span {
  at: number
  start: number
}
const rows = computed<Span[]>(() => (found.value?.starts ?? []).map((start, at) => ({ at, start })))
const points = (at: number) => {
  const known = found.value?.known[0]?.[at] ?? 0
  const ahead = `${counted(found.value?.forecast[at] ?? 0, 'step')} ahead`
  const parts = known ? `${counted(known, 'point')} known, ${ahead}` : ahead
  return found.value?.whole[0]?.[at] ? parts : `${parts}; not all of it`
}
const columns = computed<GridColumn<Span>[]>(() => [
  {
    name: 'start',
    title: props.by ? 'begins' : 'from',
    text: (span) => store.axis?.input(span.start) ?? '',
    words: true,
    className: () => 'number',
  },
  {
    name: 'mean',
    title: props.how,
    text: (span) => fixed(found.value?.mean[0]?.[span.at], props.decimals),
    className: () => 'strong',
  },
  ...(found.value?.levels ?? []).flatMap((level, l) =>
    (['lower', 'upper'] as const).map((end) => ({
      name: `${end} ${level}`,
      title: `${fixed(level * 100, 0)} % ${end === 'lower' ? 'from' : 'to'}`,
      text: (span: Span) => fixed(found.value?.[end][l]?.[0]?.[span.at], props.decimals),
    })),
  ),
  ...(props.apart && alone.value
    ? (['lower', 'upper'] as const).map((end) => ({
        name: `apart ${end}`,
        title: `independent ${end === 'lower' ? 'from' : 'to'}`,
        help: 'The widest range if errors of steps and series had nothing to do with each other.',
        text: (span: Span) => fixed(alone.value?.[end].at(-1)?.[0]?.[span.at], props.decimals),
      }))
    : []),
  ...props.beside.map((each, n) => ({
    name: `scenario ${each.outlook.id}`,
    title: each.name,
    text: (span: Span) => fixed(scenarios.value?.[n]?.mean[0]?.[span.at], props.decimals),
  })),
  { name: 'points', title: 'of', text: (span) => points(span.at), words: true },
])
</script>

<template>
  <p v-if="answer.failure.value" class="worse" role="alert">{{ answer.failure.value }}</p>
  <DataGrid
    v-else
    label="Totals"
    :rows="rows"
    :columns="columns"
    :key-of="(span) => span.at"
    :sortable="false"
  />
</template>

<style scoped>
:deep(.strong) {
  font-weight: 600;
}
</style>
