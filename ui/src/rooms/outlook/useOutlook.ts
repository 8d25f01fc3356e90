import { computed, ref, watch, type ComputedRef, type Ref } from 'vue'
import { client, unwrap, type Shapes } from '../../api/client'
import { observedSeries, type LaneBand } from '../../charts/lane'
import { useLine } from '../../charts/useLine'
import { useAnswer } from '../../state/answers'
import { decimalsFor, fixed } from '../../state/format'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import { markOf } from '../../theme/theme'
import type { GridColumn } from '../../widgets/grid'

/** An outlook as a lane, a table and a sentence about the step that is picked. */
export function useOutlook(
  id: ComputedRef<number | undefined>,
  experiment: Readonly<Ref<Shapes['ExperimentView'] | null>>,
) {
  const store = useProject()
  const view = useView()
  const points = useLine()
  const line = points.data
  const told = useAnswer(
    'outlook',
    () => (id.value ? { params: { path: { outlook_id: id.value }, query: { series: view.series } } } : null),
    (asked, signal): Promise<Shapes['OutlookView']> =>
      unwrap(client.GET('/api/v1/outlooks/{outlook_id}', { ...asked, signal })),
    { live: () => `outlook ${id.value}`, tick: () => store.tick(`outlook ${id.value}`) },
  )
  const outlook = told.data
  const names = computed(() => experiment.value?.contenders ?? [])
  const mark = computed(() => markOf(names.value, outlook.value?.contender ?? ''))

  // The outlook starts at the end of the data: look there when the room opens.
  watch(
    [() => outlook.value?.id, () => view.series],
    () => {
      const axis = store.axis
      if (!axis || !outlook.value?.times?.length) return
      const count = outlook.value.times.length
      view.span = [
        axis.time(axis.end - Math.max(count * 6, 24)),
        axis.time(axis.end + Math.ceil(count * 1.1)),
      ]
    },
    { immediate: true },
  )

  const lane = computed(() => {
    const origin = outlook.value?.origin && store.axis ? store.axis.time(outlook.value.origin - 1) : Infinity
    const forecast = outlook.value?.times?.length
      ? [
          {
            label: outlook.value.contender,
            points: { times: outlook.value.times, values: outlook.value.mean ?? [] },
            color: mark.value.css,
            dash: mark.value.dash,
            width: 2,
          },
        ]
      : []
    return [...(line.value ? observedSeries(line.value, origin) : []), ...forecast]
  })
  const bands = computed<LaneBand[]>(() =>
    (outlook.value?.levels ?? [])
      .map((level, i) => ({
        label: `${level}`,
        times: outlook.value?.times ?? [],
        low: outlook.value?.lower?.[i] ?? [],
        high: outlook.value?.upper?.[i] ?? [],
        color: mark.value.css,
        alpha: 0.18,
      }))
      .reverse(),
  )
  const picked = ref(0)
  watch(
    () => outlook.value?.id,
    () => (picked.value = 0),
  )
  const decimals = computed(() => decimalsFor(outlook.value?.mean ?? []))
  const steps = computed(() => (outlook.value?.times ?? []).map((time, at) => ({ at, time })))
  const columns = computed<GridColumn<{ at: number; time: number }>[]>(() => [
    {
      name: 'time',
      title: 'time',
      text: (step) => store.axis?.input(step.time) ?? '',
      words: true,
      className: () => 'number',
    },
    {
      name: 'mean',
      title: 'mean',
      text: (step) => fixed(outlook.value?.mean?.[step.at], decimals.value),
      className: () => 'strong',
    },
    ...(outlook.value?.levels ?? []).flatMap((level, l) =>
      (['lower', 'upper'] as const).map((end) => ({
        name: `${end} ${level}`,
        title: `${fixed(level * 100, 0)} % ${end === 'lower' ? 'from' : 'to'}`,
        text: (step: { at: number }) => fixed(outlook.value?.[end]?.[l]?.[step.at], decimals.value),
      })),
    ),
  ])
  const sentence = computed(() => {
    const each = outlook.value
    const axis = store.axis
    const at = each?.times?.[picked.value]
    if (!each?.mean || !axis || at === undefined) return ''
    const value = each.mean[picked.value]
    if (value === null || value === undefined) return `${view.key} has no forecast: it ended before.`
    const last = (each.levels?.length ?? 0) - 1
    const level = each.levels?.[last]
    const mean = `On ${axis.text(at)} ${view.key} will be ${fixed(value, decimals.value)} ${view.unit}`
    if (level === undefined) return `${mean}.`
    const range = `${fixed(each.lower?.[last]?.[picked.value], decimals.value)} and ${fixed(each.upper?.[last]?.[picked.value], decimals.value)}`
    return `${mean}, and with ${fixed(level * 100, 0)} % confidence between ${range} ${view.unit}.`
  })
  return { points, told, outlook, names, lane, bands, picked, steps, columns, sentence }
}
