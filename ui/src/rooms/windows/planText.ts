import type { Choices } from '../../state/project'

export type Plan = NonNullable<Choices['plan']>

/** Runs of numbers as text: 1–25, 48, 167–169. */
export function runs(numbers: readonly number[]): string {
  const parts: string[] = []
  const sorted = [...numbers].sort((a, b) => a - b)
  for (let i = 0; i < sorted.length; i++) {
    const begin = i
    while (sorted[i + 1] === (sorted[i] as number) + 1) i++
    parts.push(i - begin >= 2 ? `${sorted[begin]}–${sorted[i]}` : sorted.slice(begin, i + 1).join(', '))
  }
  return parts.join(', ')
}

/** Numbers from text such as "1-25, 48, 72"; null when something else stands in it. */
export function parseRuns(text: string): number[] | null {
  const out = new Set<number>()
  for (const part of text.split(/[,\s]+/).filter(Boolean)) {
    const match = /^(\d+)(?:[–-](\d+))?$/.exec(part)
    if (!match) return null
    const from = Number(match[1])
    const to = Number(match[2] ?? from)
    if (from < 1 || to < from || to - from > 5000) return null
    for (let each = from; each <= to; each++) out.add(each)
  }
  return [...out].sort((a, b) => a - b)
}

export interface Bound {
  column: string
  low: number | null
  high: number | null
}

/** Filters such as "lag 1 >= 40; weekday sin -1..0"; a sentence where one cannot be read. */
export function readFilters(
  text: string,
  columns: string[],
  moment: (text: string) => number | null,
): Bound[] | string {
  const out: Bound[] = []
  const longest = [...columns].sort((a, b) => b.length - a.length)
  for (const part of text
    .split(';')
    .map((each) => each.trim())
    .filter(Boolean)) {
    const column = longest.find(
      (name) => part.startsWith(name + ' ') || part.startsWith(name + '>') || part.startsWith(name + '<'),
    )
    if (!column) return `“${part}” begins with no column of this table.`
    const rest = part.slice(column.length).trim()
    const value = (raw: string) =>
      column === 'origin' ? moment(raw.trim()) : raw.trim() === '' ? null : Number(raw)
    const range = /^(.+?)\.\.(.+)$/.exec(rest)
    const bound = /^(>=|<=|≥|≤)(.+)$/.exec(rest)
    const low = range
      ? value(range[1] ?? '')
      : bound && '>=≥'.includes(bound[1] ?? '')
        ? value(bound[2] ?? '')
        : null
    const high = range
      ? value(range[2] ?? '')
      : bound && '<=≤'.includes(bound[1] ?? '')
        ? value(bound[2] ?? '')
        : null
    if ((low === null && high === null) || Number.isNaN(low) || Number.isNaN(high))
      return `“${part}” is not a condition such as “${column} >= 5” or “${column} 5..9”.`
    out.push({ column, low, high })
  }
  return out
}
