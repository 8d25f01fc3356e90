import { computed, type ComputedRef, type Ref } from 'vue'
import { client, unwrap, type Shapes } from '../../api/client'
import { observedSeries, type LaneBand, type LaneSeries } from '../../charts/lane'
import { useLine } from '../../charts/useLine'
import { useAnswer } from '../../state/answers'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import { markOf } from '../../theme/theme'

/** Forecasts of an experiment from the cutoff, as lines and ranges of a lane, and what was learned by then. */
export function useForecasts(
  id: ComputedRef<number | undefined>,
  experiment: Readonly<Ref<Shapes['ExperimentView'] | null>>,
  selected: Ref<string>,
  shown: ComputedRef<Set<string>>,
) {
  const store = useProject()
  const view = useView()
  const points = useLine()
  const line = points.data
  const contenders = computed(() => experiment.value?.contenders ?? [])
  const forecast = useAnswer(
    'forecasts',
    () =>
      id.value
        ? {
            params: { path: { experiment_id: id.value } },
            body: { series: view.series, origin: view.cutoff, contenders: null },
          }
        : null,
    (asked, signal): Promise<Shapes['ForecastsView']> =>
      unwrap(client.POST('/api/v1/experiments/{experiment_id}/forecasts', { ...asked, signal })),
    {
      settle: 50,
      live: () => `experiment ${id.value}`,
      tick: () => store.tick(`experiment ${id.value}`),
    },
  )
  const forecasts = forecast.data
  const cutoffTime = computed(() => store.axis?.time(view.cutoff - 1) ?? 0)
  const drawn = computed(() =>
    (forecasts.value?.forecasts ?? []).filter((each) => shown.value.has(each.contender)),
  )
  const lane = computed<LaneSeries[]>(() => {
    const fromForecast = (each: Shapes['ForecastView']) => {
      const mark = markOf(contenders.value, each.contender)
      return {
        label: each.contender,
        points: { times: each.times, values: each.mean },
        color: mark.css,
        dash: mark.dash,
        width: each.contender === selected.value ? 2 : 1.5,
      }
    }
    const ordered = [...drawn.value].sort(
      (a, b) =>
        Number(b.contender === experiment.value?.baseline) -
        Number(a.contender === experiment.value?.baseline),
    )
    return [...ordered.map(fromForecast), ...(line.value ? observedSeries(line.value, cutoffTime.value) : [])]
  })
  const bands = computed<LaneBand[]>(() => {
    const each = drawn.value.find((one) => one.contender === selected.value && one.levels?.length)
    if (!each) return []
    const color = markOf(contenders.value, each.contender).css
    return [...(each.levels ?? [])]
      .map((level, i) => ({
        label: `${level}`,
        times: each.times,
        low: each.lower?.[i] ?? [],
        high: each.upper?.[i] ?? [],
        color,
        alpha: 0.16,
      }))
      .reverse()
  })
  const flatLane = computed<LaneSeries[]>(() =>
    drawn.value
      .filter((each) => contenders.value.find((c) => c.name === each.contender)?.chain !== 'none')
      .map((each) => {
        const mark = markOf(contenders.value, each.contender)
        return {
          label: `${each.contender}, flat`,
          points: { times: each.times, values: each.flat_mean },
          color: mark.css,
          dash: mark.dash,
          width: 1.5,
        }
      }),
  )
  /** The fold that had learned by the cutoff, as the server says; null before the first. */
  const fold = computed(() => forecasts.value?.fold ?? null)
  const learned = computed(() =>
    (forecasts.value?.forecasts ?? []).some((each) => each.contender === selected.value),
  )
  return { points, forecasts, lane, bands, flatLane, fold, learned }
}
