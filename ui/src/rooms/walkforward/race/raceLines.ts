import type { Shapes } from '../../../api/client'
import type { PlotSeries } from '../../../charts/plot'
import { markOf } from '../../../theme/theme'

/** A drawn error may not lie beyond so many times the baseline's: what is hopeless would flatten the rest. */
const HOPELESS = 2.5
const EARLIEST = 0.1

/** How candidates are called and drawn, a colour and dash for every one. */
export const marksOf = (search: Shapes['SearchView']) => {
  const names = search.candidates.map((each) => ({ name: each.name, family: 'search' }))
  return (name: string) => markOf(names, name)
}

/** The best error at any time, of those that had come as far as anybody: a staircase. */
function bestSoFar(search: Shapes['SearchView']): PlotSeries {
  const marks = search.candidates
    .flatMap((each) => each.course.map((mark) => ({ ...mark, name: each.name })))
    .filter((mark) => mark.error !== null)
    .sort((a, b) => a.at - b.at || a.fits - b.fits)
  const x: number[] = []
  const y: number[] = []
  const step = (at: number, error: number) => {
    x.push(at)
    y.push(error)
  }
  let [rung, best] = [-1, Infinity]
  for (const mark of marks) {
    if (mark.rung > rung) [rung, best] = [mark.rung, Infinity]
    if (mark.rung < rung || (mark.error ?? Infinity) >= best) continue
    best = mark.error ?? Infinity
    const at = Math.max(mark.at, EARLIEST)
    if (y.length) step(at, y.at(-1) as number)
    step(at, best)
  }
  if (y.length) step(Math.max(search.spent, x.at(-1) ?? 0), y.at(-1) as number)
  return { label: 'best so far', kind: 'line', x, y, color: 'var(--ink)', width: 2.25 }
}

/** Candidates as lines of error against seconds spent, the best so far, the baseline, and what luck would show. */
export function raceLines(search: Shapes['SearchView'], selected: string): PlotSeries[] {
  const mark = marksOf(search)
  const drawn = search.candidates
    .map((each) => ({ ...each, course: each.course.filter((one) => one.error !== null) }))
    .filter((each) => each.course.length)
  const ends = [
    Math.max(...drawn.flatMap((each) => each.course.map((one) => one.at)), EARLIEST),
    search.spent,
  ]
  const starts = Math.max(
    Math.min(...drawn.flatMap((each) => each.course.map((one) => one.at)), ...ends),
    EARLIEST,
  )
  const level = (label: string, y: number): PlotSeries => ({
    label, kind: 'line', x: [starts, Math.max(...ends)], y: [y, y], color: 'var(--ink-3)', dash: [4, 3], still: true,
  }) // prettier-ignore
  const lines = drawn.map((each): PlotSeries => {
    const { css, dash } = mark(each.name)
    const stands = !selected || each.name === selected
    const alpha = stands ? 1 : 0.35
    const x = each.course.map((one) => Math.max(one.at, EARLIEST))
    const y = each.course.map((one) => Math.min(one.error as number, HOPELESS))
    return each.course.length > 1
      ? { label: each.name, kind: 'line', x, y, color: css, dash: [...dash], width: each.name === selected ? 2.5 : 1.5, alpha }
      : { label: each.name, kind: 'points', x, y, color: css, alpha }
  }) // prettier-ignore
  const luck = search.luck
  return [
    level(search.baseline, 1),
    ...(luck && search.candidates.length > 1 ? [level('by luck', 1 - luck.expected), level('by luck, one in twenty', 1 - luck.high)] : []),
    ...lines,
    bestSoFar(search),
  ] // prettier-ignore
}

/** What became of a candidate, in a few words. */
export function stateOf(candidate: Shapes['CandidateView'], folds: number): string {
  const where =
    candidate.folds === folds ? 'all folds' : candidate.folds === 1 ? 'one fold' : `${candidate.folds} folds`
  if (candidate.state === 'dropped') return `dropped at ${where}`
  if (candidate.state === 'stalled' || candidate.state === 'failed')
    return `${candidate.state}: ${candidate.reason}`
  if (candidate.state === 'racing') return `at ${where}`
  return candidate.entered ? `${candidate.state}, on the board` : candidate.state
}
