import { computed, type Ref } from 'vue'
import { attempt, client, unwrap, type Shapes } from '../../api/client'
import { useAnswer } from '../../state/answers'
import { useProject } from '../../state/project'

export type BoardRow = Shapes['BoardRowView']
/** How the board is told: skill by which measure, what counts alike; empty: as the experiment says. */
export interface BoardManner {
  metric?: string
  weighting?: 'points' | 'series' | 'size'
}

const REST = 8

/** An experiment and its board, refetched as cells finish; run and stop. */
export function useExperiment(id: Ref<number | undefined>, manner: () => BoardManner | null = () => null) {
  const store = useProject()
  const live = {
    live: () => `experiment ${id.value}`,
    tick: () => store.tick(`experiment ${id.value}`),
    rest: REST,
  }
  const question = () => (id.value ? { params: { path: { experiment_id: id.value } } } : null)
  const told = useAnswer(
    'experiment',
    question,
    (asked, signal): Promise<Shapes['ExperimentView']> =>
      unwrap(client.GET('/api/v1/experiments/{experiment_id}', { ...asked, signal })) as never,
    { ...live, settle: 150 },
  )
  const judged = useAnswer(
    'board',
    () => {
      const [asked, query] = [question(), manner()]
      if (!asked || !query) return null
      return Object.keys(query).length ? { params: { ...asked.params, query } } : asked
    },
    (asked, signal): Promise<Shapes['BoardView']> =>
      unwrap(client.GET('/api/v1/experiments/{experiment_id}/board', { ...asked, signal })),
    { ...live, settle: 300 },
  )
  const minded = useAnswer(
    'deceptions',
    () => {
      const [asked, query] = [question(), manner()]
      return asked && query ? { params: { ...asked.params, query: { metric: query.metric } } } : null
    },
    (asked, signal): Promise<Shapes['DeceptionsView']> =>
      unwrap(client.GET('/api/v1/experiments/{experiment_id}/deceptions', { ...asked, signal })),
    { ...live, settle: 300, aside: true },
  )
  const experiment = told.data
  const board = judged.data
  const deceptions = computed(() => minded.data.value?.deceptions ?? [])
  const used = computed(() => minded.data.value?.used ?? '')
  const caution = computed(() => minded.data.value?.caution ?? '')
  const rows = computed(() => board.value?.rows ?? [])
  const active = computed(() => ['running', 'queued'].includes(experiment.value?.state ?? ''))

  async function run() {
    if (!id.value || active.value) return
    const params = { path: { experiment_id: id.value } }
    await attempt(() => unwrap(client.POST('/api/v1/experiments/{experiment_id}/run', { params })))
  }
  async function stop() {
    if (!id.value || !active.value) return
    const params = { path: { experiment_id: id.value } }
    await attempt(() => unwrap(client.POST('/api/v1/experiments/{experiment_id}/stop', { params })))
  }
  return { experiment, board, deceptions, caution, used, told, judged, rows, active, run, stop }
}
