import { shallowRef, watch } from 'vue'
import { client, fetched, unwrap } from '../../api/client'
import { useProject } from '../../state/project'
import type { Plan } from './planText'

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
  const held = shallowRef<{ start: number; values: (number | null)[] }>({ start: 0, values: [] })
  let key = ''
  let asked: [number, number] = [0, 0]

  async function need() {
    const { plan, chain, until, table, series } = inputs()
    if (!store.dataset || !plan || !store.axis) return
    const fresh = JSON.stringify([store.dataset.id, chain, chain.length ? until : null, table, series])
    const [low, high] = reach()
    const inside = Math.max(low, 0) >= asked[0] && Math.min(high, store.axis.end) <= asked[1]
    if (fresh === key && inside) return
    key = fresh
    const margin = Math.min(high - low, 5000)
    asked = [Math.max(low - margin, 0), high + margin]
    const params = { path: { dataset_id: store.dataset.id } }
    const body = {
      plan,
      chain,
      until,
      series: table,
      offset: 0,
      limit: 0,
      find: null,
      sort: null,
      where: [],
      span: [series, ...asked],
    }
    const found = await fetched(() =>
      unwrap(client.POST('/api/v1/datasets/{dataset_id}/windows', { params, body: body as never })),
    )
    if (found && fresh === key) held.value = { start: found.span_start, values: found.span_values }
  }
  watch([inputs, reach], () => void need(), { immediate: true, deep: true })
  return held
}
