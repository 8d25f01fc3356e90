import { computed, onBeforeUnmount, ref, shallowRef, watch } from 'vue'
import { attempt, client, fetched, ProblemError, type Shapes, unwrap } from '../../api/client'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import { sameText, type Plan } from './planText'

/** Rows that are asked for together. */
export const PAGE = 64

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
  /** The plan whose table is shown: the last one that could be cut. */
  const cut = shallowRef<Plan | null>(null)
  const every = ref(false)
  const chain = computed(() => (view.flat ? (store.choices.chain ?? []) : []))
  const table = shallowRef<Shapes['WindowsView'] | null>(null)
  const columns = shallowRef<Shapes['ColumnFactsView'] | null>(null)
  const complaint = shallowRef<Complaint | null>(null)
  const target = ref(0)
  const busy = ref(false)
  let controller: AbortController | null = null

  const which = () => ({
    chain: chain.value,
    until: view.cutoff,
    series: every.value ? null : view.series,
  })

  async function refresh() {
    controller?.abort()
    const mine = (controller = new AbortController())
    if (!store.dataset) return
    busy.value = true
    const asked = plan.value
    const params = { path: { dataset_id: store.dataset.id } }
    const body = {
      ...which(),
      plan: asked,
      offset: null,
      limit: PAGE,
      find: view.cutoff - 1,
      sort: null,
      where: [],
      span: null,
    }
    try {
      const found = await unwrap(
        client.POST('/api/v1/datasets/{dataset_id}/windows', { params, body, signal: mine.signal }),
      )
      if (mine !== controller) return
      table.value = found
      cut.value = asked
      complaint.value = null
      // What is on the screen comes first.
      requestAnimationFrame(() => {
        if (asked === draft.value) void keep(asked)
        void explain(mine)
      })
    } catch (error) {
      if (mine !== controller || (error instanceof DOMException && error.name === 'AbortError')) return
      const field = error instanceof ProblemError ? (error.field ?? '') : ''
      complaint.value = { field, detail: error instanceof Error ? error.message : String(error) }
    } finally {
      if (mine === controller) busy.value = false
    }
  }

  async function keep(chosen: Plan) {
    await attempt(() => store.choose({ plan: chosen }))
    if (draft.value === chosen) draft.value = null
  }

  async function explain(mine: AbortController) {
    await new Promise((resolve) => setTimeout(resolve, 250))
    if (mine !== controller || !store.dataset || !cut.value) return
    const params = { path: { dataset_id: store.dataset.id } }
    const last = (cut.value.horizon ?? [1]).length - 1
    const body = { ...which(), plan: cut.value, target: Math.min(target.value, last) }
    const found = await fetched(() =>
      unwrap(
        client.POST('/api/v1/datasets/{dataset_id}/windows/columns', { params, body, signal: mine.signal }),
      ),
    )
    if (found && mine === controller) columns.value = found
  }

  watch(
    () => sameText([store.dataset?.id, every.value ? -1 : view.series, chain.value, plan.value]),
    () => void refresh(),
    { immediate: true },
  )
  let later: ReturnType<typeof setTimeout> | undefined
  watch(
    () => view.cutoff,
    () => {
      clearTimeout(later)
      later = setTimeout(() => void refresh(), 80)
    },
  )
  watch(target, () => controller && void explain(controller))
  onBeforeUnmount(() => {
    clearTimeout(later)
    controller?.abort()
  })

  return {
    plan,
    cut,
    chain,
    every,
    table,
    columns,
    complaint,
    target,
    busy,
    change: (next: Plan) => (draft.value = next),
    /** Back to the plan whose table is shown. */
    forget: () => {
      draft.value = null
      complaint.value = null
    },
  }
}
