import { computed, ref, watch, type Ref } from 'vue'
import { attempt, client, unwrap, type Shapes } from '../../api/client'
import type { LaneSeries } from '../../charts/lane'
import { useAnswer } from '../../state/answers'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import { edited, type Edit } from './edits'

/** Colours and dashes of scenarios beside the outlook, in the order they are looked at. */
export const MARKS = [
  { color: 'var(--c6)', dash: [5, 3] },
  { color: 'var(--c3)', dash: [2, 2] },
  { color: 'var(--c4)', dash: [8, 3, 2, 3] },
]

/** What lies ahead of an outlook, what of it is being edited, and the scenarios that are kept and looked at. */
export function useScenarios(made: Ref<Shapes['OutlookView'] | null>) {
  const store = useProject()
  const view = useView()
  const base = computed(() => made.value?.of ?? made.value?.id ?? null)
  const changes = ref(0)
  const { data: listed, again } = useAnswer(
    'scenarios',
    () => (base.value ? { params: { path: { outlook_id: base.value } }, tick: changes.value } : null),
    (asked, signal): Promise<Shapes['ScenariosView']> =>
      unwrap(client.GET('/api/v1/outlooks/{outlook_id}/scenarios', { params: asked.params, signal })),
    { aside: true, live: () => `outlook ${base.value}`, tick: () => store.tick(`outlook ${base.value}`) },
  )
  const { data: ahead } = useAnswer(
    'outlook ahead',
    () =>
      made.value?.seed != null
        ? { params: { path: { outlook_id: base.value ?? 0 }, query: { series: view.series } } }
        : null,
    (asked, signal): Promise<Shapes['AheadView']> =>
      unwrap(client.GET('/api/v1/outlooks/{outlook_id}/ahead', { ...asked, signal })),
    { aside: true },
  )
  const columns = computed(() => (ahead.value?.columns ?? []).filter((each) => !each.labels.length))
  const name = ref('')
  const column = computed(
    () => columns.value.find((each) => each.name === name.value) ?? columns.value[0] ?? null,
  )
  const times = computed(() => made.value?.times ?? [])
  const origin = computed(() => made.value?.origin ?? 0)

  const edits = ref<Edit[]>([])
  const removed = ref<string[]>([])
  const added = ref<Shapes['OccasionSpan'][]>([])
  const changed = computed(() => edits.value.length + removed.value.length + added.value.length > 0)
  function clear() {
    edits.value = []
    removed.value = []
    added.value = []
  }
  watch(base, clear)
  const drawn = computed(() =>
    column.value
      ? edited(
          column.value.filled,
          edits.value.filter((each) => each.column === column.value?.name),
          origin.value,
          view.key,
          column.value.past.findLast((each) => each !== null) ?? null,
        )
      : [],
  )
  const lane = computed<LaneSeries[]>(() => {
    const shown = column.value
    if (!shown) return []
    const past = shown.past.length
    const touched = edits.value.some((each) => each.column === shown.name)
    const known = { times: shown.times.slice(0, past), values: shown.past }
    // The lines are always the same three, so that the lane is not built anew under the hand that draws.
    return [
      { label: shown.name, points: known, color: 'var(--ink)', width: 1.25 },
      {
        label: 'as given',
        points: { times: times.value, values: shown.filled },
        color: 'var(--ink-2)',
        dash: [4, 3],
        width: 1.25,
      },
      {
        label: 'in the scenario',
        points: { times: touched ? times.value : [], values: touched ? drawn.value : [] },
        color: MARKS[0]?.color ?? '',
        width: 2,
      },
    ]
  })

  const shown = ref<number[]>([])
  watch(base, () => (shown.value = []))
  const toggle = (id: number) =>
    (shown.value = shown.value.includes(id)
      ? shown.value.filter((each) => each !== id)
      : [...shown.value, id].slice(-MARKS.length))
  const { data: outlooks } = useAnswer(
    'scenario outlooks',
    () => (shown.value.length ? { ids: shown.value, series: view.series, tick: changes.value } : null),
    (asked, signal): Promise<Shapes['OutlookView'][]> =>
      Promise.all(
        asked.ids.map((outlook_id) =>
          unwrap(
            client.GET('/api/v1/outlooks/{outlook_id}', {
              params: { path: { outlook_id }, query: { series: asked.series } },
              signal,
            }),
          ),
        ),
      ),
  )
  /** The scenarios that are looked at beside the outlook, each with its colour. */
  const beside = computed(() =>
    (shown.value.length ? (outlooks.value ?? []) : []).flatMap((outlook) => {
      const mark = MARKS[shown.value.indexOf(outlook.id)]
      return mark && outlook.times.length ? [{ outlook, name: outlook.scenario ?? '', ...mark }] : []
    }),
  )

  async function keep(title: string) {
    if (!base.value) return
    const body = {
      name: title,
      edits: edits.value,
      removed: removed.value,
      added: added.value,
    }
    const params = { path: { outlook_id: base.value } }
    const kept = await attempt(() =>
      unwrap(client.POST('/api/v1/outlooks/{outlook_id}/scenarios', { params, body })),
    )
    if (!kept) return
    changes.value += 1
    clear()
    if (!shown.value.includes(kept.id)) toggle(kept.id)
  }
  async function forget(outlook_id: number) {
    const gone = await attempt(() =>
      unwrap(client.DELETE('/api/v1/outlooks/{outlook_id}/scenario', { params: { path: { outlook_id } } })),
    )
    if (!gone) return
    shown.value = shown.value.filter((each) => each !== outlook_id)
    changes.value += 1
    again()
  }
  /** What a kept scenario says, to go on from. */
  function take(scenario: Shapes['Scenario']) {
    const place = (moment: string | number | null | undefined) => {
      if (typeof moment !== 'string') return moment ?? null
      const time = store.axis?.parse(moment)
      return time != null && store.axis ? store.axis.position(time) : null
    }
    edits.value = scenario.edits.map((each) => ({
      ...each,
      key: each.key ?? null,
      since: place(each.since),
      until: place(each.until),
    }))
    removed.value = [...scenario.removed]
    added.value = [...scenario.added]
  }
  return {
    listed: computed(() => listed.value?.scenarios ?? []),
    told: computed(() => listed.value !== null),
    occasions: computed(() => ahead.value?.occasions ?? []),
    columns,
    column,
    name,
    times,
    origin,
    edits,
    removed,
    added,
    changed,
    lane,
    shown,
    toggle,
    beside,
    keep,
    forget,
    take,
    clear,
  }
}
export type Scenarios = ReturnType<typeof useScenarios>
