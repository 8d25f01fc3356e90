import type { Shapes } from '../../api/client'
import { signed } from '../../state/format'
import type { BoardRow } from './useExperiment'

/** What the board comes to, in one sentence; an interval that holds zero tells no difference. */
export function verdictOf(rows: BoardRow[], baseline: string): string {
  const judged = rows.filter((row) => !row.baseline && row.skill !== null)
  const row = judged.sort((a, b) => (b.skill ?? 0) - (a.skill ?? 0))[0]
  if (!row || row.skill === null) return 'No verdict yet.'
  if (row.skill <= 0) return `Nothing beats ${baseline}.`
  const sure = row.skill_low !== null && row.skill_low > 0
  const range =
    row.skill_low === null ? '' : `, 95 % interval ${signed(row.skill_low)} … ${signed(row.skill_high)}`
  return `${row.contender} is best, skill ${signed(row.skill)}${range}: ${sure ? `it beats ${baseline}` : 'not clearly different from ' + baseline}.`
}

/** What is missing and why, the first reason in words. */
export function missingOf(failures: Shapes['FailureView'][]): string {
  const first = failures[0]
  if (!first) return ''
  const cells = failures.filter((each) => each.series === null).length
  const declined = failures.length - cells
  const parts = [
    cells ? `${cells} cell${cells === 1 ? '' : 's'} failed` : '',
    declined ? `${declined} forecast${declined === 1 ? '' : 's'} declined` : '',
  ]
  return `${parts.filter(Boolean).join(', ')}: ${first.contender}: ${first.reason}`
}
