import { computed, ref, shallowRef, watch } from 'vue'
import { attempt, client, ProblemError, type Shapes, unwrap } from '../../api/client'
import { useAnswer } from '../../state/answers'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import type { Plan } from './planText'

/** Rows that are asked for together. */
export const PAGE = 64
const ROWS = { offset: null, limit: PAGE, sort: null, where: [], span: null }

/** Where something was typed that cannot be done, and why. */
export interface Complaint {
  field: string
  detail: string
}

/** The plan that is being edited, the table it makes, and what does not go where it was typed.
 *
 * An edit shows at once; it is kept in the project when the server could cut its table.
 */
export function useWindowTable() {
  const store = useProject()
  const view = useView()
  const fallback = computed<Plan>(() => {
    const season = Math.round(store.axis?.grid.seasons[0] ?? 4)
    return {
      schema_version: 1,
      lags: Array.from({ length: Math.min(season, 48) }, (_, i) => i + 1),
      rolling: [],
      calendar: [],
      covariates: [],
      more: [],
      half_life: null,
      by_scale: false,
      horizon: [1],
      recursive: false,
      stride: 1,
      missing: 'drop',
    }
  })
  const draft = shallowRef<Plan | null>(null)
  const plan = computed<Plan>(() => draft.value ?? store.choices.plan ?? fallback.value)
  const every = ref(false)
  const chain = computed(() => (view.flat ? (store.choices.chain ?? []) : []))
  const which = () => ({
    chain: chain.value,
    until: view.cutoff,
    series: every.value ? null : view.series,
  })
  const where = () => ({ path: { dataset_id: store.dataset?.id ?? 0 } })

  const made = useAnswer(
    'windows',
    () =>
      store.dataset && {
        params: where(),
        body: { ...which(), plan: plan.value, ...ROWS, find: view.cutoff - 1 },
      },
    async (asked, signal): Promise<{ plan: Plan; table: Shapes['WindowsView'] }> => ({
      plan: asked.body.plan,
      table: await unwrap(client.POST('/api/v1/datasets/{dataset_id}/windows', { ...asked, signal })),
    }),
    { settle: 80 },
  )
  const table = computed(() => made.data.value?.table ?? null)
  /** The plan whose table is shown: the last one that could be cut. */
  const cut = computed(() => made.data.value?.plan ?? null)
  /** What does not go where it was typed. */
  const complaint = computed<Complaint | null>(() => {
    const error = made.error.value
    if (!error || error.name === 'AbortError') return null
    return { field: error instanceof ProblemError ? (error.field ?? '') : '', detail: error.message }
  })
  // What is on the screen comes first; then an edit is kept.
  watch(cut, (now) => {
    if (now && now === draft.value) requestAnimationFrame(() => void keep(now))
  })

  async function keep(chosen: Plan) {
    await attempt(() => store.choose({ plan: chosen }))
    if (draft.value === chosen) draft.value = null
  }

  const target = ref(0)
  const { data: columns } = useAnswer(
    'window columns',
    () => {
      if (!store.dataset || !cut.value) return null
      const last = (cut.value.horizon ?? [1]).length - 1
      return { params: where(), body: { ...which(), plan: cut.value, target: Math.min(target.value, last) } }
    },
    (asked, signal): Promise<Shapes['ColumnFactsView']> =>
      unwrap(client.POST('/api/v1/datasets/{dataset_id}/windows/columns', { ...asked, signal })),
    { settle: 250 },
  )

  return {
    plan,
    cut,
    chain,
    every,
    table,
    columns,
    complaint,
    target,
    busy: made.busy,
    loading: made.loading,
    change: (next: Plan) => (draft.value = next),
    /** Back to the plan whose table is shown. */
    forget: () => (draft.value = null),
  }
}
