import { computed, type Ref } from 'vue'
import { attempt, client, unwrap, type Shapes } from '../../api/client'
import { useFetched } from '../../charts/useLine'
import { useProject } from '../../state/project'

export interface BoardRow {
  contender: string
  baseline: boolean
  family: string | null
  cells: number
  skill: number | null
  skill_low: number | null
  skill_high: number | null
  mase: number | null
  rmse: number | null
  mae: number | null
  smape: number | null
  flat_rmse: number | null
  coverage: number | null
  seconds: number
  best_in: number
  skill_by_fold: (number | null)[]
  skill_by_step: (number | null)[]
}

/** An experiment and its board, refetched as cells finish; run and stop. */
export function useExperiment(id: Ref<number | undefined>) {
  const store = useProject()
  const tick = computed(() => store.tick(`experiment ${id.value}`))
  const { data: experiment } = useFetched<Shapes['ExperimentView']>(
    () => [id.value, tick.value],
    (signal) =>
      id.value
        ? unwrap(
            client.GET('/api/v1/experiments/{experiment_id}', {
              params: { path: { experiment_id: id.value } },
              signal,
            }),
          )
        : null,
    150,
  )
  const { data: board } = useFetched<Shapes['BoardView']>(
    () => [id.value, tick.value],
    (signal) =>
      id.value
        ? unwrap(
            client.GET('/api/v1/experiments/{experiment_id}/board', {
              params: { path: { experiment_id: id.value } },
              signal,
            }),
          )
        : null,
    400,
  )
  const rows = computed(() => (board.value?.rows ?? []) as unknown as BoardRow[])
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
  return { experiment, board, rows, active, run, stop }
}
