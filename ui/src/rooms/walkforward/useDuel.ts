import { computed, type ComputedRef, type Ref } from 'vue'
import { client, unwrap, type Shapes } from '../../api/client'
import type { LaneSeries } from '../../charts/lane'
import { useAnswer } from '../../state/answers'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import { markOf } from '../../theme/theme'
import type { BoardManner } from './useExperiment'

/** Two entrants compared: what the server says of them, and when one pulled ahead as lines of a lane. */
export function useDuel(
  id: ComputedRef<number | undefined>,
  one: Ref<string>,
  other: Ref<string>,
  manner: Ref<BoardManner>,
  contenders: ComputedRef<{ name: string; family: string }[]>,
) {
  const store = useProject()
  const view = useView()
  const live = computed(() => `experiment ${id.value}`)
  const answer = useAnswer(
    'duel',
    () =>
      id.value && one.value && other.value && one.value !== other.value
        ? {
            params: {
              path: { experiment_id: id.value },
              query: { ...manner.value, one: one.value, other: other.value, series: view.series },
            },
          }
        : null,
    (asked, signal): Promise<Shapes['DuelView']> =>
      unwrap(client.GET('/api/v1/experiments/{experiment_id}/duel', { ...asked, signal })),
    { live: () => live.value, tick: () => store.tick(live.value) },
  )
  const duel = computed(() => (other.value ? answer.data.value : null))
  const lane = computed<LaneSeries[]>(() => {
    const found = duel.value
    if (!found) return []
    const line = (label: string, told: Shapes['SavingsView'], color: string, dash: number[] = []) => ({
      label,
      points: { times: told.times, values: told.shares.map((each) => each * 100) },
      color,
      dash,
      width: 1.5,
    })
    const all = line('all series', found.savings, 'var(--ink)', many.value ? [4, 2] : [])
    const here = line('this series', found.savings_here, markOf(contenders.value, found.one).css)
    return many.value ? [here, all] : [all]
  })
  const many = computed(() => (store.dataset?.series.length ?? 0) > 1)
  return { answer, duel, lane }
}
