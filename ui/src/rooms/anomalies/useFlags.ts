import { ref, watch, type ComputedRef, type Ref } from 'vue'
import { beside, client, unwrap, type Shapes } from '../../api/client'
import { useView } from '../../state/view'

/** Flags of a scan above a threshold: by a budget of flags a week as of the cutoff, or dragged by hand. */
export function useFlags(
  id: ComputedRef<number | undefined>,
  state: () => string | undefined,
  active: Readonly<Ref<boolean>>,
) {
  const view = useView()
  const budget = ref(1)
  let byHand = false
  const threshold = ref<number | null>(null)
  const flags = ref<Shapes['FlagsView'] | null>(null)
  /** Whatever is asked for later is what counts: an answer that was overtaken says nothing. */
  let turn = 0
  async function apply(body: { threshold?: number; budget_per_week?: number }) {
    if (!id.value || active.value) return
    const mine = ++turn
    const params = { path: { experiment_id: id.value } }
    const answer = await beside(() =>
      unwrap(
        client.PUT('/api/v1/experiments/{experiment_id}/flags', {
          params,
          body: {
            series: view.series,
            threshold: null,
            budget_per_week: null,
            until: view.cutoff,
            ...body,
          },
        }),
      ),
    )
    if (!answer || mine !== turn) return
    flags.value = answer
    threshold.value = answer.threshold
  }
  watch(
    [id, () => view.series, state],
    () => {
      turn++
      flags.value = null
      threshold.value = null
      byHand = false
      if (state() && !active.value) void apply({ budget_per_week: budget.value })
    },
    { immediate: true },
  )
  let waiting: ReturnType<typeof setTimeout> | undefined
  // A budget's threshold is what was known at the cutoff, so it moves with it; one set by hand stays.
  watch(
    () => view.cutoff,
    () => {
      if (byHand) return
      clearTimeout(waiting)
      waiting = setTimeout(() => void apply({ budget_per_week: budget.value }), 150)
    },
  )
  function setBudget() {
    byHand = false
    void apply({ budget_per_week: Math.max(budget.value, 0.01) })
  }
  function drag(value: number) {
    byHand = true
    threshold.value = Math.max(value, 0.01)
    clearTimeout(waiting)
    waiting = setTimeout(() => void apply({ threshold: threshold.value ?? 3 }), 150)
  }
  return { budget, threshold, flags, setBudget, drag }
}
