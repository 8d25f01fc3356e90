import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'
import { attempt, client, unwrap, type Shapes } from '../api/client'
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
export const useProject = defineStore('project', () => {
  const list = ref<{ id: number; name: string }[]>([])
  const project = shallowRef<Shapes['Project'] | null>(null)
  const dataset = shallowRef<Shapes['DatasetView'] | null>(null)
  const catalogue = shallowRef<Shapes['Catalogue'] | null>(null)
  const connected = ref(true)
  /** Counts changes of experiments and outlooks, by kind and id; rooms watch the ones they show. */
  const ticks = ref<Record<string, number>>({})
  /** How far the reading of what was brought is, while it is read. */
  const intake = ref<{ stage: string; share: number } | null>(null)
  let quiet: ReturnType<typeof setTimeout> | undefined
  let stream: EventSource | null = null
  let refresh: ReturnType<typeof setTimeout> | undefined

  const choices = computed<Choices>(() => (project.value?.choices ?? {}) as Choices)
  const axis = computed(() => (dataset.value ? new Axis(dataset.value.grid) : null))
  const running = computed(() =>
    (project.value?.experiments ?? []).filter((e) => e.state === 'running' || e.state === 'queued'),
  )

  async function loadList() {
    list.value = (await unwrap(client.GET('/api/v1/projects'))).projects as { id: number; name: string }[]
    catalogue.value ??= await unwrap(client.GET('/api/v1/catalogue'))
  }

  async function open(id: number) {
    await take(
      await unwrap(client.GET('/api/v1/projects/{project_id}', { params: { path: { project_id: id } } })),
    )
    listen(id)
  }

  async function take(fresh: Shapes['Project']) {
    const wanted = (fresh.choices as Choices).dataset_id
    if (wanted && wanted !== dataset.value?.id) {
      dataset.value = await unwrap(
        client.GET('/api/v1/datasets/{dataset_id}', { params: { path: { dataset_id: wanted } } }),
      )
    }
    if (!wanted) dataset.value = null
    project.value = fresh
  }

  async function reload() {
    const id = project.value?.id
    if (id === undefined) return
    const asked = client.GET('/api/v1/projects/{project_id}', { params: { path: { project_id: id } } })
    const fresh = await attempt(() => unwrap(asked))
    if (fresh && project.value?.id === id) await take(fresh)
  }

  async function choose(changes: Partial<Record<keyof Choices, unknown>>) {
    if (!project.value) return
    const params = { path: { project_id: project.value.id } }
    const body = changes as Shapes['Choices']
    await take(await unwrap(client.PATCH('/api/v1/projects/{project_id}/choices', { params, body })))
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
        resync?: boolean
        intake?: string
        share?: number
      }
      if (event.intake) {
        intake.value = { stage: event.intake, share: event.share ?? 0 }
        clearTimeout(quiet)
        quiet = setTimeout(() => (intake.value = null), 3000)
        return
      }
      const next = { ...ticks.value }
      const bump = (name: string) => (next[name] = (next[name] ?? 0) + 1)
      if (event.experiment) bump(`experiment ${event.experiment}`)
      if (event.outlook) bump(`outlook ${event.outlook}`)
      if (event.profile) bump(`profile ${event.profile}`)
      if (event.resync) bump('resync')
      ticks.value = next
      refresh ??= setTimeout(() => {
        refresh = undefined
        void reload()
      }, 250)
    }
  }

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
    project,
    dataset,
    catalogue,
    connected,
    intake,
    choices,
    axis,
    running,
    loadList,
    open,
    reload,
    choose,
    create,
    maskSpans,
    tick,
  }
})
