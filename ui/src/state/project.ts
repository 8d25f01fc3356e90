import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'
import { client, ProblemError, type Shapes, unwrap } from '../api/client'
import { askOnce, outdate } from './answers'
import { Axis } from './axis'

export type Room = 'intake' | 'profile' | 'flatten' | 'windows' | 'walkforward' | 'anomalies' | 'outlook'
export const ROOMS: { name: Room; title: string }[] = [
  { name: 'intake', title: 'Intake' },
  { name: 'profile', title: 'Profile' },
  { name: 'flatten', title: 'Flatten' },
  { name: 'windows', title: 'Windows' },
  { name: 'walkforward', title: 'Walk-forward' },
  { name: 'anomalies', title: 'Anomalies' },
  { name: 'outlook', title: 'Outlook' },
]

type Chain = NonNullable<Shapes['Choices']['chain']>
type Plan = NonNullable<Shapes['Choices']['plan']>
export interface Choices {
  dataset_id?: number
  experiment_id?: number
  scan_id?: number
  outlook_id?: number
  chain?: Chain
  plan?: Plan
}

/** The open project, its dataset and catalogue, kept current by server-sent events. */
const CELLS_EVERY = 1000

/** How far the fit of a cell is: whose, and its losses so far by epoch or tree. */
export interface CellProgress {
  share: number
  about: string
  contender: string
  fold: number | null
  epochs: number[]
  learned: number[]
  held_out: number[]
}

export const useProject = defineStore('project', () => {
  const list = ref<Shapes['ProjectName'][]>([])
  const deleted = ref<Shapes['KeptView'][]>([])
  /** Counts what was renamed, copied, deleted or restored. */
  const keptChanges = ref(0)
  const project = shallowRef<Shapes['Project'] | null>(null)
  const dataset = shallowRef<Shapes['DatasetView'] | null>(null)
  const catalogue = shallowRef<Shapes['Catalogue'] | null>(null)
  const connected = ref(true)
  /** Counts changes of experiments and outlooks, by kind and id; rooms watch the ones they show. */
  const ticks = ref<Record<string, number>>({})
  /** How far the reading of what was brought is, while it is read. */
  const intake = ref<{ stage: string; share: number } | null>(null)
  /** How far the cell is that is being computed, by experiment, while its contender tells. */
  const progress = ref<Record<number, CellProgress>>({})
  let quiet: ReturnType<typeof setTimeout> | undefined
  let stream: EventSource | null = null
  let refresh: ReturnType<typeof setTimeout> | undefined

  const choices = computed<Choices>(() => (project.value?.choices ?? {}) as Choices)
  const axis = computed(() => (dataset.value ? new Axis(dataset.value.grid) : null))
  /** Long work of any kind that goes on in the project. */
  const running = computed(() => project.value?.running ?? [])

  async function loadList() {
    const found = await askOnce(
      ['projects'],
      (signal) => unwrap(client.GET('/api/v1/projects', { signal })),
      true,
    )
    list.value = found.projects
    deleted.value = found.deleted
    catalogue.value ??= await askOnce(['catalogue'], (signal) =>
      unwrap(client.GET('/api/v1/catalogue', { signal })),
    )
  }

  const read = (params: { path: { project_id: number } }, signal: AbortSignal) =>
    unwrap(client.GET('/api/v1/projects/{project_id}', { params, signal }))
  /** A problem of reading beside what the user does is told by the answers; here it means: nothing new. */
  const told = <T>(work: () => Promise<T>) => work().catch(() => undefined)

  async function open(id: number) {
    const turn = ++asked
    const params = { path: { project_id: id } }
    await take(await askOnce(['project', id, turn], (signal) => read(params, signal)), turn)
    listen(id)
  }

  /**
   * A project as read has the turn in which it was asked for, as written the one in which that was confirmed: whatever
   * was asked before a write was done may not know of it, and says nothing once it is overtaken.
   */
  let revision = 0
  let asked = 0
  let taken = 0

  async function take(fresh: Shapes['Project'], turn: number) {
    if (turn < taken) return
    taken = turn
    const wanted = (fresh.choices as Choices).dataset_id
    if (wanted && wanted !== dataset.value?.id) {
      const params = { path: { dataset_id: wanted } }
      const found = await askOnce(['dataset', wanted], (signal) =>
        unwrap(client.GET('/api/v1/datasets/{dataset_id}', { params, signal })),
      )
      if (turn < taken) return
      dataset.value = found
    }
    if (!wanted) dataset.value = null
    revision = fresh.id === project.value?.id ? Math.max(revision, fresh.revision) : fresh.revision
    project.value = fresh
  }

  async function reload() {
    const id = project.value?.id
    if (id === undefined) return
    const turn = ++asked
    const params = { path: { project_id: id } }
    const fresh = await told(() => askOnce(['project', id, turn], (signal) => read(params, signal)))
    if (fresh && project.value?.id === id) await take(fresh, turn)
  }

  /** Choices are written one after the other: of two that overtook each other the older would stay. */
  let written: Promise<unknown> = Promise.resolve()
  /** How many are not kept yet; they are sent to the end even when the page is left. */
  const unkept = ref(0)
  function choose(changes: Partial<Record<keyof Choices, unknown>>): Promise<void> {
    const id = project.value?.id
    unkept.value++
    const mine = written.then(async () => {
      if (id === undefined) return
      const body = changes as Shapes['Choices']
      const fresh = await write(id, body, revision)
      if (project.value?.id === id) await take(fresh, ++asked)
    })
    written = mine.catch(() => undefined).finally(() => unkept.value--)
    return mine
  }

  /**
   * Who chooses says which revision of the project is known. Where something else was changed meanwhile, in another
   * window, that stays and this is written as well; where it is the same, nothing is written and it is said.
   */
  async function write(id: number, body: Shapes['Choices'], known: number): Promise<Shapes['Project']> {
    const header = { 'If-Match': `"projects-${id}-${known}"` }
    const params = { path: { project_id: id }, header }
    const sent = await client.PATCH('/api/v1/projects/{project_id}/choices', {
      params,
      body,
      keepalive: true,
    })
    if (sent.response.status !== 412) return unwrap(Promise.resolve(sent))
    const path = { project_id: id }
    const fresh = await unwrap(client.GET('/api/v1/projects/{project_id}', { params: { path } }))
    const changed = Object.keys((sent.error as Shapes['Problem'] | undefined)?.changed ?? {})
    if (!changed.some((name) => name in body)) return write(id, body, fresh.revision)
    if (project.value?.id === id) await take(fresh, ++asked)
    throw new ProblemError(
      `Changed in another window meanwhile (${changed.join(', ')}): that is shown now, yours was not kept.`,
      412,
    )
  }

  async function create(name: string) {
    const made = await unwrap(client.POST('/api/v1/projects', { body: { name } }))
    await loadList()
    return made.id
  }

  function listen(id: number) {
    stream?.close()
    stream = new EventSource(`/api/v1/projects/${id}/events`)
    stream.onopen = () => (connected.value = true)
    stream.onerror = () => (connected.value = false)
    stream.onmessage = (message) => {
      const event = JSON.parse(message.data as string) as {
        experiment?: number
        outlook?: number
        profile?: number
        scan?: number
        resync?: boolean
        cell?: boolean
        progress?: CellProgress
        intake?: string
        share?: number
        kept?: boolean
      }
      if (event.kept) {
        keptChanges.value++
        void told(loadList)
      }
      if (event.intake) {
        intake.value = { stage: event.intake, share: event.share ?? 0 }
        clearTimeout(quiet)
        quiet = setTimeout(() => (intake.value = null), 3000)
        return
      }
      if (event.progress && event.experiment) {
        progress.value = { ...progress.value, [event.experiment]: event.progress }
        return
      }
      if (event.experiment) later.add(`experiment ${event.experiment}`)
      if (event.outlook) later.add(`outlook ${event.outlook}`)
      if (event.profile) later.add(`profile ${event.profile}`)
      if (event.scan) later.add(`scan ${event.scan}`)
      if (event.resync) later.add('resync')
      // Cells come in by the dozen: they are told once a second. Whatever changes a state is told at once.
      if (event.cell) spread ??= setTimeout(tellAll, CELLS_EVERY)
      else tellAll()
      refresh ??= setTimeout(
        () => {
          refresh = undefined
          void reload()
        },
        event.cell ? CELLS_EVERY * 2 : 250,
      )
    }
  }

  const later = new Set<string>()
  let spread: ReturnType<typeof setTimeout> | undefined
  function tellAll() {
    clearTimeout(spread)
    spread = undefined
    outdate(later)
    const next = { ...ticks.value }
    for (const name of later) next[name] = (next[name] ?? 0) + 1
    later.clear()
    ticks.value = next
  }

  /** Whether reading the file found values far from all others: axes then leave them out until asked. */
  const hasExtremes = computed(() => {
    const found = (dataset.value?.account as { findings?: { id: string }[] } | undefined)?.findings
    return (found ?? []).some((each) => each.id === 'extreme values')
  })

  /** Masked spans of a series as times. */
  function maskSpans(key: string): [number, number][] {
    const grid = axis.value
    if (!grid) return []
    return (dataset.value?.masks ?? [])
      .filter((each) => each.key === null || each.key === key)
      .map((each) => [grid.time(each.start - 1), grid.time(each.stop - 1)])
  }

  const tick = (name: string) => (ticks.value[name] ?? 0) + (ticks.value.resync ?? 0)
  return {
    list,
    deleted,
    keptChanges,
    project,
    dataset,
    catalogue,
    connected,
    unkept,
    intake,
    progress,
    choices,
    axis,
    running,
    loadList,
    open,
    reload,
    choose,
    create,
    hasExtremes,
    maskSpans,
    tick,
  }
})
