import { computed } from 'vue'
import type { Shapes } from '../../api/client'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'

/** Folds as bars over the whole extent: where each part lies, in percent of the width. */
export function useFoldBars(folds: () => Shapes['FoldView'][], sealed: () => Shapes['FoldView'][]) {
  const store = useProject()
  const view = useView()
  function at(position: number): number {
    const time = store.axis?.time(position) ?? 0
    const [first, last] = view.extent
    return Math.min(Math.max(((time - first) / (last - first)) * 100, 0), 100)
  }
  const between = (start: number, stop: number) => ({
    left: `${at(start)}%`,
    width: `${at(stop) - at(start)}%`,
  })
  const bars = computed(() => {
    const open = folds()
    return [...open, ...sealed()].map((fold, i) => ({
      fold,
      sealed: i >= open.length,
      learned: between(fold.learn_start, fold.cutoff),
      scored: between(fold.score_start, fold.score_stop),
    }))
  })
  return { bars, at }
}
