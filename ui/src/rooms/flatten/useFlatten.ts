import { computed, ref, watch } from 'vue'
import { attempt, client, ProblemError, unwrap, type Shapes } from '../../api/client'
import { visiblePositions } from '../../charts/useLine'
import { useAnswer } from '../../state/answers'
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
  const units = computed(() => (view.flat ? ('flat' as const) : ('original' as const)))
  const question = (more: { start: number; stop: number; twin: number | null }) =>
    store.dataset && {
      params: { path: { dataset_id: store.dataset.id, series: view.series } },
      body: { chain: chain.value, until: view.cutoff, width: 1100, units: units.value, ...more },
    }
  const fitted = useAnswer(
    'flatten',
    () => question({ ...visiblePositions(), twin: comparing.value ? selected.value : null }),
    (asked, signal): Promise<Shapes['FlattenView']> =>
      unwrap(client.POST('/api/v1/datasets/{dataset_id}/series/{series}/flatten', { ...asked, signal })),
    { settle: 15 },
  )
  const { data: flat, busy } = fitted
  /** Why the chain cannot be fitted here, in the server's words. */
  const refused = computed(() => (fitted.error.value instanceof ProblemError ? fitted.failure.value : ''))
  /** Tests take longer than lanes; they follow when the hand rests. What is in view says nothing to them. */
  const { data: facts } = useAnswer(
    'flatten facts',
    () => question({ start: 0, stop: 1, twin: null }),
    (asked, signal): Promise<Shapes['FlatFactsView']> =>
      unwrap(
        client.POST('/api/v1/datasets/{dataset_id}/series/{series}/flatten/facts', { ...asked, signal }),
      ),
    { settle: 400, aside: true },
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
  return { chain, selected, comparing, refused, fitted, flat, facts, busy, change, setStage, current }
}
