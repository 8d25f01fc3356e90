import { computed, type ComputedRef, type Ref } from 'vue'
import { client, unwrap, type Shapes } from '../../api/client'
import type { LaneSeries } from '../../charts/lane'
import { useAnswer } from '../../state/answers'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import { markOf } from '../../theme/theme'
import type { BoardManner } from './useExperiment'

export type ViewBy = 'step' | 'fold' | 'series' | 'slot' | 'hour_of_week' | 'weekday' | 'month'

/** Errors and skill of every entrant by one view of the points; asked for while `by` says by what. */
export function useBreakdown(
  id: ComputedRef<number | undefined>,
  by: () => ViewBy | null,
  manner: () => BoardManner,
) {
  const store = useProject()
  const live = computed(() => `experiment ${id.value}`)
  return useAnswer(
    'breakdown',
    () => {
      const view = by()
      return id.value && view
        ? { params: { path: { experiment_id: id.value }, query: { ...manner(), by: view } } }
        : null
    },
    (asked, signal): Promise<Shapes['BreakdownView']> =>
      unwrap(client.GET('/api/v1/experiments/{experiment_id}/breakdown', { ...asked, signal })),
    { live: () => live.value, tick: () => store.tick(live.value), rest: 8, aside: true },
  )
}

/** Whether errors are drawn, with sign or without, and of which step ahead; null: of the forecast made last. */
export interface ErrorsDrawn {
  how: '' | 'signed' | 'absolute'
  ahead: number | null
}

export const titleOf = ({ how, ahead }: ErrorsDrawn) =>
  (how === 'signed' ? 'forecast − truth' : 'size of errors') + (ahead ? `, ${ahead} ahead` : '')

/** Every error on the series by time, of the entrants that are drawn, as lines of a lane. */
export function useErrors(
  id: ComputedRef<number | undefined>,
  wanted: Ref<ErrorsDrawn>,
  shown: ComputedRef<Set<string>>,
  contenders: ComputedRef<{ name: string; family: string }[]>,
) {
  const store = useProject()
  const view = useView()
  const live = computed(() => `experiment ${id.value}`)
  const answer = useAnswer(
    'errors',
    () =>
      id.value && wanted.value.how
        ? {
            params: {
              path: { experiment_id: id.value },
              query: { series: view.series, ahead: wanted.value.ahead ?? undefined },
            },
          }
        : null,
    (asked, signal): Promise<Shapes['ErrorsInTimeView']> =>
      unwrap(client.GET('/api/v1/experiments/{experiment_id}/errors', { ...asked, signal })),
    { live: () => live.value, tick: () => store.tick(live.value), rest: 8 },
  )
  const lane = computed<LaneSeries[]>(() =>
    (answer.data.value?.entrants ?? [])
      .filter((each) => shown.value.has(each.contender))
      .map((each) => {
        const mark = markOf(contenders.value, each.contender)
        const values = wanted.value.how === 'absolute' ? each.errors.map(Math.abs) : each.errors
        return {
          label: each.contender,
          ...apart(each.times, values),
          color: mark.css,
          dash: mark.dash,
          width: 1.25,
        }
      }),
  )
  return { answer, lane }
}

/** Points of folds that lie apart are not joined by a line. */
function apart(times: number[], values: number[]): Pick<LaneSeries, 'points'> {
  const steps = times.slice(1).map((time, i) => time - (times[i] ?? 0))
  const usual = [...steps].sort((a, b) => a - b)[Math.floor(steps.length / 2)] ?? 0
  const out: { times: number[]; values: (number | null)[] } = { times: [], values: [] }
  times.forEach((time, i) => {
    if (i && (steps[i - 1] ?? 0) > 1.5 * usual) {
      out.times.push((times[i - 1] ?? 0) + usual)
      out.values.push(null)
    }
    out.times.push(time)
    out.values.push(values[i] ?? null)
  })
  return { points: out }
}
