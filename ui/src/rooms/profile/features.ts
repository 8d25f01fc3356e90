import { defineStore } from 'pinia'
import { computed, ref } from 'vue'
import { attempt, client, type Shapes, unwrap } from '../../api/client'
import { useAnswer } from '../../state/answers'
import { decimalsFor, fixed, number } from '../../state/format'
import type { GridColumn } from '../../widgets/grid'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'

export type Row = Shapes['FeatureRow']
export type Column = GridColumn<Row> & Required<Pick<GridColumn<Row>, 'value' | 'text'>>
const share = (value: number | null) => (value === null ? '–' : fixed(value, 2))
const numeric = (
  name: string,
  title: string,
  help: string,
  value: (row: Row) => number | null,
  text: (value: number | null) => string = (each) => number(each, 4),
  width = 66,
): Column => ({ name, title, help, value, text: (row) => text(value(row)), width })
const worded = (
  name: string,
  title: string,
  help: string,
  value: (row: Row) => string,
  width = 88,
): Column => ({
  name,
  title,
  help,
  value,
  text: value,
  width,
  words: true,
})

/** The features of the panel, computed by the runner and kept with the dataset version. */
export const useFeatures = defineStore('features', () => {
  const store = useProject()
  const view = useView()
  /** Whether the table is on the page: nobody else asks for it. */
  const looked = ref(false)
  /** As of the cutoff; where nothing was computed as of it, as of the last time something was. */
  const { data, again } = useAnswer(
    'features',
    () =>
      looked.value && store.dataset
        ? { params: { path: { dataset_id: store.dataset.id } }, until: view.cutoff }
        : null,
    async ({ params, until }, signal): Promise<Shapes['FeaturesView']> => {
      const ask = (query: { until?: number }) =>
        unwrap(
          client.GET('/api/v1/datasets/{dataset_id}/features', {
            params: { ...params, query },
            signal,
          }),
        )
      const here = await ask({ until })
      return here.state === 'empty' ? await ask({}) : here
    },
    {
      settle: 400,
      live: () => `profile ${store.dataset?.id ?? 0}`,
      tick: () => store.tick(`profile ${store.dataset?.id ?? 0}`),
    },
  )
  const sort = ref({ name: 'key', up: true })
  const search = ref('')
  const condition = ref('')
  const group = ref('')
  const across = ref<[string, string]>(['trend', 'entropy'])

  async function act(what: 'compute' | 'stop') {
    const id = store.dataset?.id
    if (id === undefined) return
    const params = { path: { dataset_id: id } }
    const until = what === 'stop' ? (data.value?.until ?? view.cutoff) : view.cutoff
    const asked =
      what === 'compute'
        ? client.POST('/api/v1/datasets/{dataset_id}/features', { params, body: { until } })
        : client.POST('/api/v1/datasets/{dataset_id}/features/stop', { params, body: { until } })
    await attempt(() => unwrap(asked as ReturnType<typeof client.POST>))
    again()
  }
  const names = computed(() => {
    const seasons = new Set<string>()
    for (const row of data.value?.rows ?? [])
      for (const period of Object.keys(row.seasons)) seasons.add(period)
    return [...seasons].sort((a, b) => Number(a) - Number(b))
  })
  /** Text with the same decimals in the whole column. */
  function even(value: (row: Row) => number | null): (value: number | null) => string {
    const decimals = decimalsFor((data.value?.rows ?? []).map(value))
    return (each) => fixed(each, decimals)
  }
  const day = (time: number | null) => (time === null ? '–' : (store.axis?.input(time).slice(0, 10) ?? ''))
  const columns = computed<Column[]>(() => [
    numeric('first', 'from', 'first point', (row) => row.first, day, 104),
    numeric('last_time', 'to', 'last point, also beyond the cutoff', (row) => row.last_time, day, 104),
    numeric(
      'points',
      'points',
      'points up to the cutoff',
      (row) => row.points,
      (v) => number(v, 8),
    ),
    numeric(
      'missing',
      'missing',
      'share of points that are missing',
      (row) => row.missing / Math.max(row.points, 1),
      share,
    ),
    numeric('zeros', 'zeros', 'share of known points that are zero', (row) => row.zeros, share),
    numeric(
      'mean',
      'mean',
      'mean of the known points',
      (row) => row.mean,
      even((row) => row.mean),
    ),
    numeric(
      'spread',
      'spread',
      'standard deviation',
      (row) => row.spread,
      even((row) => row.spread),
    ),
    numeric(
      'last',
      'last',
      'last known value',
      (row) => row.last,
      even((row) => row.last),
    ),
    numeric('trend', 'trend', 'strength of the trend, 0 to 1', (row) => row.trend, share),
    ...names.value.map((period) =>
      numeric(
        `season ${period}`,
        `s. ${period}`,
        `strength of the season of ${store.axis?.steps(Number(period)) ?? period}`,
        (row) => row.seasons[period] ?? null,
        share,
      ),
    ),
    numeric('entropy', 'entropy', 'evenness of the spectrum: 1 is noise', (row) => row.entropy, share),
    numeric('autocorrelation', 'acf 1', 'autocorrelation at lag 1', (row) => row.autocorrelation, share),
    numeric(
      'breaks',
      'breaks',
      'changes of level or slope found',
      (row) => row.breaks,
      (v) => number(v, 3),
    ),
    numeric('level_shift', 'shift', 'largest change of level, in spreads', (row) => row.level_shift, share),
    numeric('lumpiness', 'lumps', 'variance of the variances of blocks', (row) => row.lumpiness, share),
    worded(
      'periods',
      'periods',
      'periods found, strongest first',
      (row) => row.periods.map((p) => number(p)).join(', ') || '–',
    ),
    worded('transform', 'transform', 'transform that evens the spread out', (row) =>
      row.transform.replace('_', '–'),
    ),
    worded('demand', 'demand', 'class by intervals and sizes', (row) => row.demand),
    numeric(
      'unit_root',
      'p root',
      'p-value of the unit-root test',
      (row) => row.p_values['unit root'] ?? null,
      share,
    ),
    numeric(
      'stationary',
      'p level',
      'p-value of the stationarity test',
      (row) => row.p_values.stationarity ?? null,
      share,
    ),
  ])
  const byName = computed(() => new Map(columns.value.map((each) => [each.name, each])))

  /** Conditions such as “trend > 0.6, zeros < 0.1”; what cannot be read is named. */
  const conditions = computed(() => {
    const tests: ((row: Row) => boolean)[] = []
    let wrong = ''
    for (const text of condition.value.split(/[,;&]/).filter((each) => each.trim())) {
      const match = /^\s*(.+?)\s*(<=|>=|<|>|=)\s*(.+?)\s*$/.exec(text)
      const column = columns.value.find((each) => [each.name, each.title].includes(match?.[1] ?? ''))
      if (!match || !column) {
        wrong = text.trim()
        continue
      }
      const [, , sign, right = ''] = match
      tests.push((row) => {
        const left = column.value(row)
        if (left === null) return false
        const [a, b] = typeof left === 'number' ? [left, Number(right)] : [left, right]
        if (sign === '<') return a < b
        if (sign === '>') return a > b
        if (sign === '<=') return a <= b
        return sign === '>=' ? a >= b : a === b
      })
    }
    return { tests, wrong }
  })
  const rows = computed<Row[]>(() => {
    const wanted = search.value.toLowerCase()
    const kept = (data.value?.rows ?? []).filter(
      (row) => row.key.toLowerCase().includes(wanted) && conditions.value.tests.every((test) => test(row)),
    )
    const column = byName.value.get(sort.value.name)
    const value = (row: Row) => (column ? column.value(row) : row.key)
    const grouping = byName.value.get(group.value)
    const order = sort.value.up ? 1 : -1
    const compare = (a: number | string | null, b: number | string | null) => {
      if (a === null || b === null) return a === b ? 0 : a === null ? 2 : -2 // what is undefined comes last
      return a < b ? -1 : a > b ? 1 : 0
    }
    return kept.sort((a, b) => {
      const apart = grouping ? compare(grouping.value(a), grouping.value(b)) : 0
      if (apart) return apart
      const by = compare(value(a), value(b))
      return Math.abs(by) === 2 ? by : by * order || a.position - b.position
    })
  })
  const state = computed(() => data.value?.state ?? 'empty')
  const stale = computed(() => state.value !== 'empty' && data.value?.until !== view.cutoff)
  /** What was never computed for this version is begun when it is first looked at. */
  const begun = new Set<number>()
  function begin() {
    const id = store.dataset?.id
    if (id === undefined || begun.has(id) || data.value?.state !== 'empty') return
    begun.add(id)
    void act('compute')
  }
  return {
    data,
    looked,
    begin,
    sort,
    search,
    condition,
    group,
    across,
    columns,
    byName,
    conditions,
    rows,
    state,
    stale,
    act,
  }
})
