import type { Shapes } from '../../../api/client'
import type { Axis } from '../../../state/axis'

/** What of a fold can be taken hold of: where it begins to learn, its cutoff, and the first and last it scores. */
export type Part = 'start' | 'cutoff' | 'gap' | 'end'
export const PARTS: Part[] = ['start', 'cutoff', 'gap', 'end']
export type Design = Record<string, unknown>
export type Fold = Shapes['FoldView']
/** A design with its folds, earliest first, sealed ones among them. */
export interface Laid {
  design: Design
  folds: Fold[]
}

const DAY = 86400
const walks = (design: Design) => ['expanding', 'sliding'].includes(String(design.kind))

/** Which parts of a design's folds can be moved at all. */
export function movable(design: Design): Part[] {
  if (design.kind === 'calendar') return ['cutoff', 'gap']
  return walks(design) ? PARTS : ['cutoff', 'gap', 'end']
}

/** Where a part of a fold lies, on the grid. */
export function placeOf(fold: Fold, part: Part): number {
  return { start: fold.learn_start, cutoff: fold.cutoff, gap: fold.score_start, end: fold.score_stop }[part]
}

/** The time that says a cutoff: that of the last point known. */
const momentOf = (axis: Axis, cutoff: number) => axis.input(axis.time(cutoff - 1))

/** How much is scored: the span where one is given, else the horizon. */
function scored(design: Design, width: number): Design {
  return { ...design, [design.span && walks(design) ? 'span' : 'horizon']: Math.max(width, 1) }
}

/** The design with a part of one fold moved to a place on the grid; the other folds follow as their kind has it. */
export function moved({ design, folds }: Laid, index: number, part: Part, to: number, axis: Axis): Design {
  const [fold, last] = [folds[index], folds[folds.length - 1]]
  if (!fold || !last) return design
  if (part === 'gap') return { ...design, gap: Math.max(to - fold.cutoff, 0) }
  if (part === 'start') {
    const earliest = Math.min(...folds.map((each) => each.learn_start))
    return design.kind === 'sliding' || to > earliest
      ? { ...design, kind: 'sliding', length: Math.max(fold.cutoff - to, 2) }
      : design
  }
  if (design.kind === 'single')
    return part === 'end'
      ? { ...withCutoffs(design, [fold.cutoff], axis), span: Math.max(to - fold.score_start, 1) }
      : { ...withCutoffs(design, [to], axis), span: null }
  if (design.kind === 'at' && part === 'cutoff')
    return withCutoffs(
      design,
      folds.map((each, i) => (i === index ? to : each.cutoff)),
      axis,
    )
  if (design.kind === 'calendar')
    return { ...design, learn: Math.max(Number(design.learn ?? 20) + days(axis, fold.cutoff, to), 1) }
  if (part === 'end') return scored(design, to - fold.score_start)
  const after = folds.length - 1 - index
  if (!after) return scored(design, last.score_stop - Number(design.gap ?? 0) - to)
  return { ...design, spacing: Math.max(Math.round((last.cutoff - to) / after), 1) }
}

/** The design with a part moved by steps of an arrow key, however many folds share the move. */
export function stepped(laid: Laid, index: number, part: Part, by: number, axis: Axis): Design {
  const fold = laid.folds[index]
  if (!fold) return laid.design
  const sharing = part === 'cutoff' && walks(laid.design) ? Math.max(laid.folds.length - 1 - index, 1) : 1
  if (laid.design.kind === 'calendar' && part === 'cutoff')
    return { ...laid.design, learn: Math.max(Number(laid.design.learn ?? 20) + Math.sign(by), 1) }
  return moved(laid, index, part, placeOf(fold, part) + by * sharing, axis)
}

/** One fold more, or one fewer; at times given, halfway to what follows the one at hand. */
export function counted({ design, folds }: Laid, index: number, by: 1 | -1, axis: Axis): Design {
  if (design.kind === 'single') return design
  if (design.kind !== 'at')
    return { ...design, count: Math.max(Number(design.count ?? folds.length) + by, 1) }
  const cutoffs = folds.map((each) => each.cutoff)
  if (by < 0)
    return cutoffs.length > 1
      ? withCutoffs(
          design,
          cutoffs.filter((_, i) => i !== index),
          axis,
        )
      : design
  const here = cutoffs[index] ?? 1
  const next = cutoffs[index + 1] ?? axis.end
  return withCutoffs(
    design,
    [...cutoffs, Math.round((here + next) / 2)].sort((a, b) => a - b),
    axis,
  )
}

/** Everything from this fold on is sealed; what is sealed from here already is opened. */
export function sealedFrom({ design, folds }: Laid, index: number): Design {
  if (design.kind === 'single') return design
  const from = folds.length - index
  return { ...design, sealed: design.sealed === from ? 0 : from }
}

function withCutoffs(design: Design, cutoffs: number[], axis: Axis): Design {
  return { ...design, share: null, cutoffs: cutoffs.map((each) => momentOf(axis, each)) }
}

const days = (axis: Axis, from: number, to: number) => Math.round((axis.time(to) - axis.time(from)) / DAY)
