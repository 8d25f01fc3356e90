import { computed } from 'vue'
import { useAnswer } from '../../state/answers'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'

type Chain = NonNullable<ReturnType<typeof useProject>['choices']['chain']>
export interface Asked {
  params: { path: { dataset_id: number; series: number } }
  body: { until: number; chain: Chain }
  signal: AbortSignal
}

/** One part of the Profile, asked again when the series, the cutoff, the units or `extra` change. */
export function useProfilePart<T, Extra extends object = object>(
  part: string,
  ask: (asked: Asked & { extra: Extra }) => Promise<T>,
  extra: () => Extra = () => ({}) as Extra,
) {
  const store = useProject()
  const view = useView()
  const chain = computed(() => (view.flat ? (store.choices.chain ?? []) : []))
  return useAnswer(
    `profile ${part}`,
    () =>
      store.dataset && {
        params: { path: { dataset_id: store.dataset.id, series: view.series } },
        body: { until: view.cutoff, chain: chain.value },
        extra: extra(),
      },
    (asked, signal) => ask({ ...asked, signal }),
    { settle: 120, aside: part !== 'level' }, // a lane itself
  )
}

/** The unit of what is shown: flattened values have none of their own. */
export function useShownUnit() {
  const view = useView()
  return computed(() => (view.flat ? 'flat' : view.unit))
}
