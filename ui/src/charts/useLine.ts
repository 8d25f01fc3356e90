import { onBeforeUnmount, ref, shallowRef, watch, type Ref } from 'vue'
import { client, fetched, type Shapes, unwrap } from '../api/client'
import { useProject } from '../state/project'
import { useView } from '../state/view'

/** Grid span of what is visible, with as much again on either side so that panning shows data at once. */
export function visiblePositions(): { start: number; stop: number } {
  const { axis } = useProject()
  const view = useView()
  if (!axis) return { start: 0, stop: 0 }
  const [low, high] = view.span
  const margin = (high - low) * 0.5
  return {
    start: Math.max(axis.position(low - margin), 0),
    stop: Math.min(axis.position(high + margin) + 2, axis.end),
  }
}

/**
 * Refetch something after the inputs settle, dropping answers that a newer request overtook.
 *
 * With `rest`, the next question waits that many times as long as the last answer took, so that a view that is
 * followed live leaves the machine to the work it shows.
 */
export function useFetched<T>(
  inputs: () => unknown[],
  fetch: (signal: AbortSignal) => Promise<T> | null,
  delay = 60,
  rest = 0,
) {
  const data = shallowRef<T | null>(null) as Ref<T | null>
  const busy = ref(false)
  let timer: ReturnType<typeof setTimeout> | undefined
  let controller: AbortController | null = null
  let first = true
  let took = 0
  let ended = 0

  async function go() {
    const begun = performance.now()
    controller?.abort()
    const mine = (controller = new AbortController())
    const asked = fetch(mine.signal)
    if (!asked) {
      data.value = null
      busy.value = false
      return
    }
    busy.value = true
    const result = await fetched(() => asked)
    if (mine !== controller) return
    busy.value = false
    ended = performance.now()
    took = ended - begun
    if (result !== undefined) data.value = result
  }

  watch(
    inputs,
    () => {
      clearTimeout(timer)
      if (first) void go()
      else timer = setTimeout(() => void go(), Math.max(delay, ended + took * rest - performance.now()))
      first = false
    },
    { immediate: true },
  )
  onBeforeUnmount(() => {
    clearTimeout(timer)
    controller?.abort()
  })
  return { data, busy, again: go }
}

/** The visible part of the current series, decimated by the server. */
export function useLine() {
  const store = useProject()
  const view = useView()
  return useFetched<Shapes['Line']>(
    () => [store.dataset?.id, view.series, view.span],
    (signal) => {
      if (!store.dataset) return null
      const params = {
        path: { dataset_id: store.dataset.id, series: view.series },
        query: { ...visiblePositions(), width: 2000 },
      }
      return unwrap(client.GET('/api/v1/datasets/{dataset_id}/series/{series}/line', { params, signal }))
    },
  )
}
