import type { Shapes } from '../../api/client'

export type FlagView = Shapes['FlagView']
export type Verdict = FlagView['verdict']

/** Detectors as they are called. */
export const DETECTORS: Record<string, string> = {
  joint: 'joint detector',
  level_shifts: 'level shifts',
  spread_shifts: 'spread shifts',
  odd_windows: 'odd windows',
  extreme_values: 'extreme values',
  beside_others: 'beside the others',
}

/** What tells one flag of a scan from another. */
export const keyOf = (flag: { key: string; start: number }) => `${flag.start} ${flag.key}`

/** A number of steps in words: 24 h, 3 days. */
export function lasting(steps: number, step: string): string {
  const [, size = '1', unit = ''] = /^(\d+)?\s*(.*)$/.exec(step) ?? []
  const total = steps * Number(size || 1)
  const short: Record<string, string> = { hour: 'h', minute: 'min', second: 's' }
  const word = unit.replace(/s$/, '')
  return `${total} ${short[word] ?? (total === 1 ? word : `${word}s`)}`
}

/** What came against what was expected, and what else is known of it. */
export function what(flag: FlagView): string {
  const beside = flag.together > 2 ? `, in ${flag.together} series at once` : ''
  const explained = flag.occasion ? `, on ${flag.occasion}` : ''
  return `${flag.what}${beside}${explained}${flag.note ? ` – ${flag.note}` : ''}`
}
