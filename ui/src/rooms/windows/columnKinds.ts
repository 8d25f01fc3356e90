import type { Shapes } from '../../api/client'
import { fixed, number } from '../../state/format'

/** Colours of columns by the kind of feature that made them. */
export const COLORS: Record<string, string> = {
  lags: 'var(--c1)',
  rolling: 'var(--c2)',
  change: 'var(--c3)',
  weighted: 'var(--c4)',
  expanding: 'var(--c4)',
  calendar: 'var(--c5)',
  fourier: 'var(--c5)',
  covariate: 'var(--c6)',
  occasion: 'var(--c7)',
  since: 'var(--c8)',
  flagged: 'var(--c3)',
  static: 'var(--c8)',
  target: 'var(--ink)',
}
const WORDS: Record<string, string> = {
  change: 'changes',
  expanding: 'so far',
  fourier: 'waves',
  covariate: 'covariates',
  occasion: 'occasions',
  target: 'targets',
}

/** Runs of columns of one kind, each with where it begins and how wide it is; those from `features` on are targets. */
export function columnGroups(names: string[], features: number, kindOf: Map<string, string>) {
  const out: { kind: string; title: string; start: number; size: number }[] = []
  names.forEach((name, place) => {
    const kind = place >= features ? 'target' : (kindOf.get(name) ?? '')
    const last = out[out.length - 1]
    if (last && last.kind === kind) last.size += 1
    else out.push({ kind, title: WORDS[kind] ?? kind, start: place, size: 1 })
  })
  return out
}

/** What a column holds, for the readout. */
export function columnReadings(each: Shapes['ColumnFactView'] | undefined, target: string | undefined) {
  if (!each) return []
  const rows = [
    { label: each.name, value: `${number(each.low)} … ${number(each.high)}` },
    { label: 'missing', value: `${(each.missing * 100).toFixed(1)} %` },
  ]
  if (each.correlation !== null && each.name !== target)
    rows.push({ label: `r with ${target}`, value: fixed(each.correlation, 2) })
  if (each.information !== null)
    rows.push({ label: 'information', value: `${fixed(each.information, 2)} nat` })
  if (each.nearest) rows.push({ label: 'most like', value: `${each.nearest}, r ${fixed(each.likeness, 2)}` })
  return rows
}
