import { computed } from 'vue'
import { client, unwrap, type Shapes } from '../../api/client'
import { useAnswer } from '../../state/answers'
import { useProject } from '../../state/project'
import type { Plan } from './planText'

const NO_ROWS = { offset: 0, limit: 0, find: null, sort: null, where: [] }

/** Values of one series around an origin, fetched with room on either side, so that most moves need no answer. */
export function useSpan(
  inputs: () => {
    plan: Plan | null
    chain: { [name: string]: unknown }[]
    until: number
    table: number | null
    series: number
  },
  reach: () => [number, number],
) {
  const store = useProject()
  /** What was asked for last, as long as it holds what is wanted. */
  let asked: [number, number] = [0, 0]
  let key = ''
  let held: { params: { path: { dataset_id: number } }; body: object } | null = null
  const { data } = useAnswer(
    'window span',
    () => {
      const { plan, chain, until, table, series } = inputs()
      if (!store.dataset || !plan || !store.axis) return null
      const fresh = JSON.stringify([store.dataset.id, chain, chain.length ? until : null, table, series])
      const [low, high] = reach()
      if (fresh !== key || Math.max(low, 0) < asked[0] || Math.min(high, store.axis.end) > asked[1]) {
        const margin = Math.min(high - low, 5000)
        asked = [Math.max(low - margin, 0), high + margin]
        key = fresh
        held = {
          params: { path: { dataset_id: store.dataset.id } },
          body: { plan, chain, until, series: table, ...NO_ROWS, span: [series, ...asked] },
        }
      }
      return held
    },
    (all, signal) =>
      unwrap(client.POST('/api/v1/datasets/{dataset_id}/windows', { ...all, signal } as never)) as Promise<
        Shapes['WindowsView']
      >,
    { settle: 0 },
  )
  return computed(() => ({ start: data.value?.span_start ?? 0, values: data.value?.span_values ?? [] }))
}
