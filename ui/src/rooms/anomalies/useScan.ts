import { computed, ref, watch } from 'vue'
import { attempt, client, unwrap, type Shapes } from '../../api/client'
import { useAnswer } from '../../state/answers'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import { keyOf, type FlagView, type Verdict } from './flags'

export interface Said {
  verdict: Verdict
  kind?: string | null
  note?: string
  /** That what is flagged reaches just so far. */
  adjusted?: boolean
}

/** The scan the project stands on: its flags as of the cutoff, what is said of them, its budget and its drill. */
export function useScan() {
  const store = useProject()
  const view = useView()
  const id = computed(() => store.choices.scan_id)
  const live = { live: () => `scan ${id.value}`, tick: () => store.tick(`scan ${id.value}`) }
  const path = () => (id.value ? { path: { scan_id: id.value } } : null)
  const asked = () => {
    const found = path()
    return found && { params: found }
  }
  const { data: scan } = useAnswer(
    'scan',
    asked,
    (question, signal): Promise<Shapes['ScanView']> =>
      unwrap(client.GET('/api/v1/scans/{scan_id}', { ...question, signal })),
    live,
  )
  const flagged = useAnswer(
    'flags',
    () => {
      const found = path()
      return found && { params: { ...found, query: { until: view.cutoff } } }
    },
    (question, signal): Promise<Shapes['FlagsView']> =>
      unwrap(client.GET('/api/v1/scans/{scan_id}/flags', { ...question, signal })),
    { ...live, rest: 2 },
  )
  const { data: curves } = useAnswer(
    'scan curves',
    asked,
    (question, signal): Promise<Shapes['CurvesView']> =>
      unwrap(client.GET('/api/v1/scans/{scan_id}/curves', { ...question, signal })),
    { ...live, aside: true, rest: 8 },
  )
  const { data: drill } = useAnswer(
    'scan drill',
    asked,
    (question, signal): Promise<Shapes['DrillView']> =>
      unwrap(client.GET('/api/v1/scans/{scan_id}/drill', { ...question, signal })),
    { ...live, aside: true, rest: 8 },
  )
  const active = computed(() => scan.value?.state === 'running')

  /** What was said here and may not be in the answer yet; the answer decides once it says the same. */
  const fresh = ref(new Map<string, Said>())
  watch(flagged.data, (now) => {
    for (const flag of now?.flags ?? [])
      if (fresh.value.get(keyOf(flag))?.verdict === flag.verdict) fresh.value.delete(keyOf(flag))
  })
  watch(id, () => fresh.value.clear())
  const flags = computed<FlagView[]>(() =>
    (flagged.data.value?.flags ?? []).map((flag) => {
      const said = fresh.value.get(keyOf(flag))
      if (!said) return flag
      return { ...flag, verdict: said.verdict, named: said.kind ?? null, note: said.note ?? '' }
    }),
  )

  /** Verdicts are written one after the other, so that what was said last stands. */
  let written: Promise<unknown> = Promise.resolve()
  const who = () => localStorage.getItem('who') ?? ''
  function judge(spans: { key: string; start: number; stop: number }[], said: Said) {
    const params = path()
    if (!params || !spans.length) return Promise.resolve(undefined)
    for (const span of spans) fresh.value.set(keyOf(span), said)
    const body = {
      spans: spans.map(({ key, start, stop }) => ({ key, start, stop })),
      verdict: said.verdict,
      kind: said.kind ?? null,
      note: said.note ?? '',
      by: who(),
      adjusted: said.adjusted ?? false,
    }
    const mine = written.then(async () => {
      const made = await attempt(() =>
        unwrap(client.POST('/api/v1/scans/{scan_id}/verdicts', { params, body })),
      )
      if (!made) for (const span of spans) fresh.value.delete(keyOf(span))
      return made
    })
    written = mine
    return mine
  }
  function undo() {
    const params = path()
    if (!params) return
    written = written.then(async () => {
      const undone = await attempt(() =>
        unwrap(client.DELETE('/api/v1/scans/{scan_id}/verdicts/last', { params })),
      )
      if (undone) fresh.value.clear()
    })
  }
  async function alike(flag: FlagView): Promise<FlagView[]> {
    const params = path()
    if (!params) return []
    const query = { key: flag.key, start: flag.start }
    const found = await attempt(() =>
      unwrap(client.GET('/api/v1/scans/{scan_id}/alike', { params: { ...params, query } })),
    )
    return found?.flags ?? []
  }

  let waiting: ReturnType<typeof setTimeout> | undefined
  /** The threshold while it is dragged, before it is kept. */
  const dragged = ref<number | null>(null)
  async function setBudget(body: Shapes['BudgetBody']) {
    const params = path()
    return params && attempt(() => unwrap(client.PUT('/api/v1/scans/{scan_id}/budget', { params, body })))
  }
  function drag(value: number) {
    dragged.value = Math.max(value, 0.1)
    clearTimeout(waiting)
    waiting = setTimeout(async () => {
      const over = scan.value?.budget.over ?? 'panel'
      await setBudget({ threshold: dragged.value, per_week: null, per_thousand: null, over })
    }, 200)
  }
  watch(flagged.data, () => (dragged.value = null))
  const threshold = computed(() => dragged.value ?? flagged.data.value?.threshold ?? null)

  async function start(settings: Partial<Shapes['NewScan']>) {
    const { project, dataset } = store
    if (!project || !dataset) return
    const params = { path: { project_id: project.id } }
    const body = {
      mode: 'as_of',
      using: 'joint',
      delay: 2,
      until: null,
      experiment_id: null,
      contender: null,
    }
    const whole = { ...body, ...settings, dataset_id: dataset.id } as Shapes['NewScan']
    if (
      await attempt(() => unwrap(client.POST('/api/v1/projects/{project_id}/scans', { params, body: whole })))
    )
      await store.reload()
  }
  const act = (way: 'stop' | 'run') => {
    const params = path()
    return params && attempt(() => unwrap(client.POST(`/api/v1/scans/{scan_id}/${way}`, { params })))
  }
  const startDrill = (repeats: number, shapes: Record<string, number[]>) => {
    const params = path()
    const body = { repeats, seed: 0, shapes }
    return params && attempt(() => unwrap(client.POST('/api/v1/scans/{scan_id}/drill', { params, body })))
  }
  const stopDrill = () => {
    const params = path()
    return params && attempt(() => unwrap(client.DELETE('/api/v1/scans/{scan_id}/drill', { params })))
  }
  /** Every contender with and without what is flagged as of each cutoff, in an experiment of its own. */
  async function compare() {
    const params = path()
    const experiment = store.choices.experiment_id
    if (!params || !experiment) return false
    const body = { experiment_id: experiment }
    const made = await attempt(() => unwrap(client.POST('/api/v1/scans/{scan_id}/compare', { params, body })))
    if (made) await store.reload()
    return Boolean(made)
  }
  async function use(body: Shapes['UseBody']) {
    const params = path()
    if (!params) return
    if (await attempt(() => unwrap(client.POST('/api/v1/scans/{scan_id}/use', { params, body }))))
      await store.reload()
  }
  return {
    id,
    scan,
    answer: flagged,
    found: flagged.data,
    flags,
    active,
    threshold,
    curves,
    drill,
    judge,
    undo,
    alike,
    setBudget,
    drag,
    start,
    stop: () => act('stop'),
    resume: () => act('run'),
    startDrill,
    stopDrill,
    use,
    compare,
  }
}
export type Scanning = ReturnType<typeof useScan>
