import { ref } from 'vue'
import { client, unwrap, type Shapes } from '../../../api/client'
import type { Entry } from './useLayout'

export type Cost = Shapes['CostView'] | { problem: string }

const keyOf = (entry: Entry) => JSON.stringify([entry.forecaster, entry.chain ?? []])

/** What one fit of each contender costs on a series as of a cutoff: measured on the server, one after the other. */
export function useCosts(dataset: number, series: number, until: number) {
  const known = ref(new Map<string, Cost>())
  const hurried: Entry[] = []
  const waiting: Entry[] = []
  let ending = new AbortController()
  let busy = false
  let held = false

  /** Have it measured, before what only waits where it is in a `hurry`. */
  function want(entry: Entry, hurry = false) {
    const key = keyOf(entry)
    const line = hurry ? hurried : waiting
    if (known.value.has(key) || line.some((each) => keyOf(each) === key)) return
    line.push(entry)
    void next()
  }
  async function next() {
    if (busy) return
    busy = true
    while (!held) {
      const entry = hurried.shift() ?? waiting.shift()
      if (!entry) break
      const cost = known.value.has(keyOf(entry)) ? null : await measured(entry)
      if (cost) known.value = new Map(known.value).set(keyOf(entry), cost)
    }
    busy = false
  }
  /** What is measured; null where it was put off, and waits again. */
  async function measured(entry: Entry): Promise<Cost | null> {
    const params = { path: { dataset_id: dataset } }
    const body = { contender: entry, series, until } as unknown as Shapes['CostBody']
    try {
      const signal = ending.signal
      return await unwrap(client.POST('/api/v1/datasets/{dataset_id}/cost', { params, body, signal }))
    } catch (error) {
      if (ending.signal.aborted) {
        hurried.unshift(entry)
        return null
      }
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
  /** Measure nothing for now: what is being measured waits again. */
  function hold() {
    held = true
    ending.abort()
  }
  /** Go on where it was held. */
  function resume() {
    held = false
    ending = new AbortController()
    void next()
  }
  /** Whether nothing more is to come. */
  const settled = (entries: Entry[]) => entries.every((each) => of(each) !== undefined)
  return { want, of, rates, settled, hold, resume }
}
