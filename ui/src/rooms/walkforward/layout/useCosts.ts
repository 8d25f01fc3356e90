import { ref } from 'vue'
import { client, unwrap, type Shapes } from '../../../api/client'
import type { Entry } from './useLayout'

export type Cost = Shapes['CostView'] | { problem: string }

const keyOf = (entry: Entry) => JSON.stringify([entry.forecaster, entry.chain ?? []])

/** What one fit of each contender costs on a series as of a cutoff: measured on the server, one after the other. */
export function useCosts(dataset: number, series: number, until: number) {
  const known = ref(new Map<string, Cost>())
  const waiting: Entry[] = []
  const ending = new AbortController()
  let busy = false

  /** Have it measured, before those that wait already where it is in a `hurry`. */
  function want(entry: Entry, hurry = false) {
    const key = keyOf(entry)
    if (known.value.has(key) || (!hurry && waiting.some((each) => keyOf(each) === key))) return
    if (hurry) waiting.unshift(entry)
    else waiting.push(entry)
    void next()
  }
  async function next() {
    if (busy) return
    busy = true
    for (let entry = waiting.shift(); entry && !ending.signal.aborted; entry = waiting.shift()) {
      const key = keyOf(entry)
      if (!known.value.has(key)) known.value = new Map(known.value).set(key, await measured(entry))
    }
    busy = false
  }
  async function measured(entry: Entry): Promise<Cost> {
    const params = { path: { dataset_id: dataset } }
    const body = { contender: entry, series, until } as unknown as Shapes['CostBody']
    try {
      const signal = ending.signal
      return await unwrap(client.POST('/api/v1/datasets/{dataset_id}/cost', { params, body, signal }))
    } catch (error) {
      return { problem: (error as Error).message }
    }
  }
  const of = (entry: Entry): Cost | undefined => known.value.get(keyOf(entry))
  function rates(entries: Entry[]): Record<string, number> {
    const found: Record<string, number> = {}
    for (const each of entries) {
      const cost = of(each)
      if (cost && 'rate' in cost && cost.rate !== null) found[each.name] = cost.rate
    }
    return found
  }
  /** Whether nothing more is to come. */
  const settled = (entries: Entry[]) => entries.every((each) => of(each) !== undefined)
  return { want, of, rates, settled, end: () => ending.abort() }
}
