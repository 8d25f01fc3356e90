import { computed } from 'vue'
import { useFetched } from '../../charts/useLine'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'

export interface Asked {
  params: { path: { dataset_id: number; series: number } }
  body: { until: number; chain: NonNullable<ReturnType<typeof useProject>['choices']['chain']> }
  signal: AbortSignal
}

/** One part of the Profile, asked again when the series, the cutoff, the units or `extra` change. */
export function useProfilePart<T>(ask: (asked: Asked) => Promise<T>, extra: () => unknown[] = () => []) {
  const store = useProject()
  const view = useView()
  const chain = computed(() => (view.flat ? (store.choices.chain ?? []) : []))
  return useFetched<T>(
    () => [store.dataset?.id, view.series, view.cutoff, chain.value, ...extra()],
    (signal) => {
      if (!store.dataset) return null
      const params = { path: { dataset_id: store.dataset.id, series: view.series } }
      return ask({ params, body: { until: view.cutoff, chain: chain.value }, signal })
    },
    120,
  )
}

/** The unit of what is shown: flattened values have none of their own. */
export function useShownUnit() {
  const view = useView()
  return computed(() => (view.flat ? 'flat' : view.unit))
}
