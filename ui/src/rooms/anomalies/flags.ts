import type { Shapes } from '../../api/client'
import { number } from '../../state/format'

export type FlagView = Shapes['FlagView']
export type Verdict = FlagView['verdict']

/** Detectors as they are called. */
export const DETECTORS: Record<string, string> = {
  joint: 'joint detector',
  level_shifts: 'level shifts',
  spread_shifts: 'spread shifts',
  odd_windows: 'odd windows',
  extreme_values: 'extreme values',
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

/** What came against what was expected, in a few words. */
export function what(flag: FlagView, unit: string, step: string): string {
  const said = cause(flag, unit, step)
  const beside = flag.together > 2 ? `, in ${flag.together} series at once` : ''
  const explained = flag.occasion ? `, on ${flag.occasion}` : ''
  return `${said}${beside}${explained}${flag.note ? ` – ${flag.note}` : ''}`
}

function cause(flag: FlagView, unit: string, step: string): string {
  const { observed, expected, kind } = flag
  const length = lasting(flag.stop - flag.start, step)
  if (kind === 'gap' || observed === null) return 'nothing came'
  if (kind === 'flat-line') return `the same ${number(observed, 3)} for ${length}`
  if (kind === 'zeros') return 'zero where it never is'
  if (expected === null) return `${number(observed, 3)} came`
  const off = observed - expected
  if (Math.abs(off) < 0.02 * Math.abs(expected))
    return `${number(observed, 3)} in the mean, as expected; not its shape`
  const stays = kind === 'level shift' && flag.stop - flag.start === 1 ? ', and it stays' : ''
  return `${number(Math.abs(off), 3)} ${unit} ${off > 0 ? 'more' : 'less'} than expected${stays}`
}
