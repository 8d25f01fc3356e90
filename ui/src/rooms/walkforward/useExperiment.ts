import { computed, type Ref } from 'vue'
import { attempt, client, unwrap, type Shapes } from '../../api/client'
import { useFetched } from '../../charts/useLine'
import { useProject } from '../../state/project'

export type BoardRow = Shapes['BoardRowView']

const REST = 8

/** An experiment and its board, refetched as cells finish; run and stop. */
export function useExperiment(id: Ref<number | undefined>, withBoard = true) {
  const store = useProject()
  const tick = computed(() => store.tick(`experiment ${id.value}`))
  const { data: experiment } = useFetched<Shapes['ExperimentView']>(
    () => [id.value, tick.value],
    (signal) =>
      id.value
        ? (unwrap(
            client.GET('/api/v1/experiments/{experiment_id}', {
              params: { path: { experiment_id: id.value } },
              signal,
            }),
          ) as Promise<Shapes['ExperimentView']>)
        : null,
    150,
    REST,
  )
  const { data: board } = useFetched<Shapes['BoardView']>(
    () => [id.value, tick.value],
    (signal) =>
      id.value && withBoard
        ? unwrap(
            client.GET('/api/v1/experiments/{experiment_id}/board', {
              params: { path: { experiment_id: id.value } },
              signal,
            }),
          )
        : null,
    300,
    REST,
  )
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
  return { experiment, board, rows, active, run, stop }
}
