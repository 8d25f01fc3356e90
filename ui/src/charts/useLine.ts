import { client, unwrap, type Shapes } from '../api/client'
import { useAnswer } from '../state/answers'
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

type LineQuery = { start?: number; stop?: number; width: number }

/** Points of the current series as a line of so many pixels shows them, decimated by the server. */
export function usePoints(wanted: () => LineQuery | null, settle?: number) {
  const store = useProject()
  const view = useView()
  return useAnswer(
    'line',
    () => {
      const query = wanted()
      return store.dataset && query
        ? { params: { path: { dataset_id: store.dataset.id, series: view.series }, query } }
        : null
    },
    (asked, signal): Promise<Shapes['Line']> =>
      unwrap(client.GET('/api/v1/datasets/{dataset_id}/series/{series}/line', { ...asked, signal })),
    { settle },
  )
}

/** The visible part of the current series. */
export const useLine = () => usePoints(() => ({ ...visiblePositions(), width: 2000 }))
