import { computed, ref, watch, type ComputedRef, type Ref } from 'vue'
import { client, unwrap, type Shapes } from '../../api/client'
import { observedSeries, type LaneBand, type LaneSeries } from '../../charts/lane'
import { useLine } from '../../charts/useLine'
import { useAnswer } from '../../state/answers'
import { decimalsFor } from '../../state/format'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import { markOf } from '../../theme/theme'

/** Paths of the bundle. */
const DRAWN = 30
/** Steps before a long horizon that are in view. */
const FEW = 240
/** How each of them is drawn: its width in pixels, and how much it covers. */
const THIN = 0.75
const PALE = 0.3

/** An outlook as lanes: what is expected, within what, some of its joint paths; the chance of passing a level; words. */
export function useOutlook(
  id: ComputedRef<number | undefined>,
  experiment: Readonly<Ref<Shapes['ExperimentView'] | null>>,
) {
  const store = useProject()
  const view = useView()
  const points = useLine()
  const line = points.data
  const live = { live: () => `outlook ${id.value}`, tick: () => store.tick(`outlook ${id.value}`) }
  const told = useAnswer(
    'outlook',
    () => (id.value ? { params: { path: { outlook_id: id.value }, query: { series: view.series } } } : null),
    (asked, signal): Promise<Shapes['OutlookView']> =>
      unwrap(client.GET('/api/v1/outlooks/{outlook_id}', { ...asked, signal })),
    live,
  )
  const outlook = told.data
  const made = computed(() => (outlook.value?.times?.length ? outlook.value : null))
  const names = computed(() => experiment.value?.contenders ?? [])
  const mark = computed(() => markOf(names.value, outlook.value?.contender ?? ''))
  const decimals = computed(() => decimalsFor(outlook.value?.mean ?? []))
  /** What chances, totals and words are told from. */
  const drawn = computed(() => (made.value?.paths ? made.value : null))
  const where = () => ({ path: { outlook_id: made.value?.id ?? 0 } })

  // The outlook starts where the known ends: look there when the room opens.
  watch(
    [() => made.value?.id, () => view.series],
    () => {
      const axis = store.axis
      if (!axis || !made.value?.origin) return
      const count = made.value.times.length
      const start = made.value.origin
      view.span = [
        axis.time(start - Math.max(Math.min(count * 5, FEW), Math.ceil(count * 1.5), 24)),
        axis.time(start + Math.ceil(count * 1.1)),
      ]
    },
    { immediate: true },
  )

  const bundled = ref(true)
  const { data: bundle } = useAnswer(
    'outlook paths',
    () =>
      drawn.value && bundled.value
        ? { params: { ...where(), query: { series: view.series, count: DRAWN } } }
        : null,
    (asked, signal): Promise<Shapes['PathsView']> =>
      unwrap(client.GET('/api/v1/outlooks/{outlook_id}/paths', { ...asked, signal })),
    { ...live, aside: true },
  )

  const lane = computed<LaneSeries[]>(() => {
    const shown = made.value
    const origin = shown?.origin && store.axis ? store.axis.time(shown.origin - 1) : Infinity
    const observed = line.value ? observedSeries(line.value, origin) : []
    if (!shown) return observed
    const color = mark.value.css
    const paths = (bundled.value ? (bundle.value?.paths ?? []) : []).map((values, n) => ({
      label: `path ${n + 1}`,
      points: { times: shown.times, values },
      color,
      width: THIN,
      alpha: PALE,
      quiet: true,
    }))
    const mean = {
      label: shown.contender,
      points: { times: shown.times, values: shown.mean },
      color,
      dash: mark.value.dash,
      width: 2,
    }
    // What then came is looked at beside what was expected, so it is not pale here.
    const came = observed.map((each) => ({ ...each, color: 'var(--ink)', width: 1.25 }))
    return [...paths, mean, ...came]
  })
  const bands = computed<LaneBand[]>(() =>
    (made.value?.levels ?? [])
      .map((level, i) => ({
        label: `${level}`,
        times: made.value?.times ?? [],
        low: made.value?.lower?.[i] ?? [],
        high: made.value?.upper?.[i] ?? [],
        color: mark.value.css,
        alpha: 0.18,
      }))
      .reverse(),
  )

  /** The level whose chance is asked for; until somebody drags it, what the highest step is expected at. */
  const dragged = ref<number | null>(null)
  watch([() => made.value?.id, () => view.series], () => (dragged.value = null))
  const level = computed(() => {
    if (dragged.value !== null || !made.value) return dragged.value
    const known = made.value.mean.filter((each): each is number => each !== null)
    return known.length ? Number(Math.max(...known).toFixed(decimals.value)) : null
  })
  /** Steps in a row that it is to last. */
  const running = ref(1)
  const { data: chance } = useAnswer(
    'outlook chance',
    () =>
      drawn.value && level.value !== null
        ? { params: { ...where(), query: { series: view.series, above: level.value, run: running.value } } }
        : null,
    (asked, signal): Promise<Shapes['ChanceView']> =>
      unwrap(client.GET('/api/v1/outlooks/{outlook_id}/chance', { ...asked, signal })),
    { ...live, settle: 20 },
  )
  const chances = computed<LaneSeries[]>(() => {
    if (!chance.value || !made.value) return []
    const times = made.value.times
    return [
      {
        label: 'ever by then',
        points: { times, values: chance.value.ever },
        color: 'var(--ink-3)',
        width: 1,
        dash: [3, 3],
      },
      ...(running.value > 1
        ? [
            {
              label: `${running.value} in a row by then`,
              points: { times, values: chance.value.run },
              color: 'var(--ink-2)',
              width: 1,
            },
          ]
        : []),
      {
        label: 'at that step',
        points: { times, values: chance.value.each },
        color: mark.value.css,
        width: 1.5,
      },
    ]
  })

  const picked = ref(0)
  watch(
    () => made.value?.id,
    () => (picked.value = 0),
  )
  const { data: words } = useAnswer(
    'outlook words',
    () =>
      drawn.value
        ? {
            params: {
              ...where(),
              query: {
                series: view.series,
                step: picked.value,
                unit: view.unit,
                ...(level.value === null ? {} : { above: level.value }),
              },
            },
          }
        : null,
    (asked, signal): Promise<Shapes['OutlookWords']> =>
      unwrap(client.GET('/api/v1/outlooks/{outlook_id}/words', { ...asked, signal })),
    { ...live, aside: true },
  )
  /** The step that stands nearest to a time. */
  function pick(time: number) {
    const times = made.value?.times ?? []
    let best = 0
    times.forEach((each, at) => {
      if (Math.abs(each - time) < Math.abs((times[best] ?? Infinity) - time)) best = at
    })
    picked.value = best
  }
  return {
    points,
    told,
    outlook,
    made,
    drawn,
    names,
    lane,
    bands,
    bundled,
    level,
    drag: (value: number) => (dragged.value = value),
    running,
    chance,
    chances,
    picked,
    pick,
    decimals,
    words,
  }
}
export type Shown = ReturnType<typeof useOutlook>
