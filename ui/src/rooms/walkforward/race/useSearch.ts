import { computed, ref, type Ref } from 'vue'
import { attempt, client, unwrap, type Shapes } from '../../../api/client'
import { useAnswer } from '../../../state/answers'
import { useProject } from '../../../state/project'

export type Candidate = Shapes['CandidateView']
export type Family = Shapes['SpaceView']['families'][number]
export interface Budget {
  seconds: number | null
  fits: number | null
  limit: number | null
}

const REST = 4

/** The search of an experiment: asked again as its cells come in; begun, gone on with, taken to the board. */
export function useSearch(experiment: Ref<Shapes['ExperimentView'] | null>) {
  const store = useProject()
  const event = () => `experiment ${experiment.value?.id}`
  const path = () => ({ path: { experiment_id: experiment.value?.id ?? 0 } })
  const asked = useAnswer(
    'search',
    () => (experiment.value?.searches ? { params: path() } : null),
    (question, signal): Promise<Shapes['SearchView']> =>
      unwrap(client.GET('/api/v1/experiments/{experiment_id}/search', { ...question, signal })) as never,
    { live: event, tick: () => store.tick(event()), rest: REST, settle: 200 },
  )
  const space = useAnswer(
    'space',
    () => (experiment.value && !experiment.value.searches ? { params: path() } : null),
    (question, signal): Promise<Shapes['SpaceView']> =>
      unwrap(client.GET('/api/v1/experiments/{experiment_id}/space', { ...question, signal })) as never,
  )
  const search = computed(() => (experiment.value?.searches ? asked.data.value : null))
  const busy = ref(false)
  async function act(what: () => Promise<unknown>): Promise<boolean> {
    busy.value = true
    const done = await attempt(what)
    busy.value = false
    return Boolean(done)
  }
  /** Search, or go on: the budget is what the whole search may have. */
  const begin = (budget: Budget, families?: Family[]) =>
    act(() => {
      const body = {
        ...budget,
        ...(families ? { space: { families } } : {}),
      } as unknown as Shapes['SearchBody']
      return unwrap(client.POST('/api/v1/experiments/{experiment_id}/search', { params: path(), body }))
    })
  const take = (names: string[]) =>
    act(() =>
      unwrap(
        client.POST('/api/v1/experiments/{experiment_id}/search/take', { params: path(), body: { names } }),
      ),
    )
  return { search, asked, space, busy, begin, take }
}
