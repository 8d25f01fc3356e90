import type { Shapes } from '../../api/client'

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
