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
