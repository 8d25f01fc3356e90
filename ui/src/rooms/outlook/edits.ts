/** A change of a column ahead, as the server takes it; places on the grid, ends included. */
export interface Edit {
  column: string
  how: 'set' | 'shift' | 'scale' | 'hold'
  since: number | null
  until: number | null
  values: (number | null)[]
  key: string | null
}

/** A column ahead as edits leave it, as the server edits it: `given` at the steps from `origin` on, `known` before. */
export function edited(
  given: (number | null)[],
  edits: Edit[],
  origin: number,
  key: string,
  known: number | null,
): (number | null)[] {
  const out = [...given]
  for (const edit of edits) {
    if (edit.key && edit.key !== key) continue
    const first = Math.max((edit.since ?? origin) - origin, 0)
    const last = Math.min((edit.until ?? origin + out.length - 1) - origin, out.length - 1)
    const { values } = edit
    const before = out.slice(0, first).findLast((each) => each !== null) ?? known
    for (let at = first; at <= last; at++) {
      const was = out[at] ?? null
      const value = values.length > 1 ? values[at - first] : values[0]
      if (edit.how === 'hold') out[at] = before
      else if (value === null || value === undefined) continue
      else if (edit.how === 'shift') out[at] = was === null ? null : was + value
      else if (edit.how === 'scale') out[at] = was === null ? null : was * value
      else out[at] = value
    }
  }
  return out
}

/** A line drawn by hand from one place to the next, as one edit; times by the steps `times` of the outlook. */
export function drawnEdit(
  { column, key }: Pick<Edit, 'column' | 'key'>,
  times: number[],
  origin: number,
  from: [number, number],
  to: [number, number],
): Edit | null {
  const [start, stop] = from[0] <= to[0] ? [from, to] : [to, from]
  const half = ((times[1] ?? 0) - (times[0] ?? 0)) / 2
  const at = times.flatMap((time, n) => (time >= start[0] - half && time <= stop[0] + half ? [n] : []))
  const first = at[0]
  const last = at[at.length - 1]
  if (first === undefined || last === undefined) return null
  const values = at.map((n) => {
    const share = stop[0] > start[0] ? ((times[n] ?? 0) - start[0]) / (stop[0] - start[0]) : 1
    return start[1] + Math.min(Math.max(share, 0), 1) * (stop[1] - start[1])
  })
  return { column, key, how: 'set', since: origin + first, until: origin + last, values }
}

/** Edits with one more: a stroke that goes on lies over the one before it. */
export function withEdit(edits: Edit[], next: Edit, origin: number, horizon: number): Edit[] {
  const last = edits[edits.length - 1]
  const joins = last && last.how === 'set' && next.how === 'set' && last.column === next.column
  if (!joins || last.key !== next.key) return [...edits, next]
  const row: (number | null)[] = Array.from({ length: horizon }, () => null)
  for (const each of [last, next])
    each.values.forEach((value, n) => {
      if (value !== null) row[(each.since ?? origin) - origin + n] = value
    })
  const there = row.flatMap((value, n) => (value === null ? [] : [n]))
  const [low, high] = [there[0] ?? 0, there[there.length - 1] ?? 0]
  const values = row.slice(low, high + 1)
  return [...edits.slice(0, -1), { ...next, since: origin + low, until: origin + high, values }]
}

/**
 * Values from text, a step per line from the first ahead, or each after its time; the problem where a line is neither.
 */
export function pastedEdit(
  text: string,
  { column, key }: Pick<Edit, 'column' | 'key'>,
  times: number[],
  origin: number,
  parse: (text: string) => number | null,
): Edit | string {
  const row: (number | null)[] = times.map(() => null)
  const lines = text.split(/\r?\n/).filter((line) => line.trim())
  let head = 0
  for (const [n, line] of lines.entries()) {
    const cells = line.split(/[;\t,]/).map((cell) => cell.trim().replace(/^"|"$/g, ''))
    const last = cells[cells.length - 1] ?? ''
    const value = last === '' ? NaN : Number(last)
    const time = cells.length > 1 ? parse((cells[0] ?? '').replace(/(\d:\d\d):00$/, '$1')) : null
    if (!Number.isFinite(value) || (cells.length > 1 && time === null)) {
      if (n > 0 || lines.length === 1)
        return `Line ${n + 1} is no value, and no time and value: “${line.slice(0, 60)}”.`
      head = 1
      continue
    }
    const at = time === null ? n - head : times.findIndex((each) => Math.abs(each - time) < 1)
    if (at < 0 || at >= times.length) return `Line ${n + 1} is no step ahead: “${line.slice(0, 60)}”.`
    row[at] = value
  }
  if (row.every((each) => each === null)) return 'There is no value in it.'
  return { column, key, how: 'set', since: origin, until: origin + times.length - 1, values: row }
}
