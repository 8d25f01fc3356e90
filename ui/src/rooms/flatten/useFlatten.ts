import { computed, ref, watch } from 'vue'
import { attempt, client, ProblemError, unwrap, type Shapes } from '../../api/client'
import { useFetched, visiblePositions } from '../../charts/useLine'
import { useProject, type Choices } from '../../state/project'
import { useView } from '../../state/view'

export type Stage = NonNullable<Choices['chain']>[number]

/** The chain of the project, what it does as of the cutoff, and how it is changed. */
export function useFlatten() {
  const store = useProject()
  const view = useView()
  const chain = ref<Stage[]>([])
  const selected = ref(0)
  const comparing = ref(false)
  /** Changes on their way: until the last is kept, what is kept is older than what is seen. */
  let writing = 0
  watch(
    () => store.choices.chain,
    (stored) => {
      if (!writing) chain.value = JSON.parse(JSON.stringify(stored ?? [])) as Stage[]
    },
    { immediate: true },
  )
  const where = () => (store.dataset ? { path: { dataset_id: store.dataset.id, series: view.series } } : null)
  const units = computed(() => (view.flat ? ('flat' as const) : ('original' as const)))
  const body = () => ({
    chain: chain.value,
    until: view.cutoff,
    ...visiblePositions(),
    width: 1100,
    units: units.value,
    twin: comparing.value ? selected.value : null,
  })
  /** Why the chain cannot be fitted here, in the server's words. */
  const refused = ref('')
  const { data: flat, busy } = useFetched<Shapes['FlattenView']>(
    () => [
      store.dataset?.id,
      view.series,
      view.cutoff,
      view.span,
      chain.value,
      units.value,
      comparing.value,
      comparing.value && selected.value,
    ],
    (signal) => {
      const params = where()
      if (!params) return null
      const asked = unwrap(
        client.POST('/api/v1/datasets/{dataset_id}/series/{series}/flatten', {
          params,
          body: body(),
          signal,
        }),
      )
      return asked.then(
        (found) => {
          refused.value = ''
          return found
        },
        (error: unknown) => {
          if (error instanceof ProblemError) refused.value = error.detail
          throw error
        },
      )
    },
    15,
  )
  /** Tests take longer than lanes; they follow when the hand rests. */
  const { data: facts } = useFetched<Shapes['FlatFactsView']>(
    () => [store.dataset?.id, view.series, view.cutoff, chain.value],
    (signal) => {
      const params = where()
      if (!params) return null
      return unwrap(
        client.POST('/api/v1/datasets/{dataset_id}/series/{series}/flatten/facts', {
          params,
          body: { ...body(), twin: null },
          signal,
        }),
      )
    },
    400,
  )

  async function change(next: Stage[], select = selected.value) {
    chain.value = next
    selected.value = Math.min(Math.max(select, 0), Math.max(next.length - 1, 0))
    writing++
    await attempt(() => store.choose({ chain: next }))
    writing--
  }
  function setStage(settings: Record<string, unknown>) {
    void change(
      chain.value.map((stage, i) => (i === selected.value ? ({ ...stage, ...settings } as Stage) : stage)),
    )
  }
  const current = computed(() => flat.value?.stages.find((each) => each.place === selected.value))
  return { chain, selected, comparing, refused, flat, facts, busy, change, setStage, current }
}
