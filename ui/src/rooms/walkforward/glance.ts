import type { Shapes } from '../../api/client'
import type { PlotSeries } from '../../charts/plot'
import { markOf } from '../../theme/theme'
import type { BoardRow } from './useExperiment'

type Names = { name: string; family: string }[]
type Found = Shapes['BreakdownView'] | null
const DAYS = ['Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat', 'Sun']
const HOURS = 24

const MONTHS = ['Jan', 'Feb', 'Mar', 'Apr', 'May', 'Jun', 'Jul', 'Aug', 'Sep', 'Oct', 'Nov', 'Dec']
/** A slot of the calendar as people call it: “weekday 0” is Mon, “month 11” Dec, “hour_of_day 5” 5 h. */
export function slotName(label: string): string {
  const code = Number(/\d+$/.exec(label)?.[0] ?? NaN)
  if (label.startsWith('weekday')) return DAYS[code] ?? label
  if (label.startsWith('month')) return MONTHS[code] ?? label
  if (label.startsWith('quarter')) return `Q${code + 1}`
  if (label.startsWith('hour_of_day')) return `${code} h`
  return label
}

/** Skill against the seconds of all cells, a point for each entrant. */
export function costPlot(rows: BoardRow[], names: Names, shown: Set<string>): PlotSeries[] {
  return rows
    .filter((row) => shown.has(row.contender) && row.skill !== null)
    .map((row) => ({
      label: row.contender,
      kind: 'points',
      x: [Math.max(row.seconds, 1e-3)],
      y: [row.skill],
      color: markOf(names, row.contender).css,
    }))
}

function entrants(found: Found, shown: Set<string>): { name: string; place: number }[] {
  return (found?.names ?? []).map((name, place) => ({ name, place })).filter((each) => shown.has(each.name))
}

/** The skill of every entrant over series, each entrant's from worst to best. */
export function spreadPlot(found: Found, names: Names, shown: Set<string>): PlotSeries[] {
  return entrants(found, shown).map(({ name, place }) => {
    const known = (found?.skill[place] ?? []).filter((each): each is number => each !== null)
    known.sort((a, b) => a - b)
    const mark = markOf(names, name)
    const x = known.map((_, i) => ((i + 1) / known.length) * 100)
    return { label: name, kind: 'line', x, y: known, color: mark.css, dash: mark.dash }
  })
}

/** The error of every fold against how much was learned from, an entrant a line. */
export function learningPlot(
  found: Found,
  names: Names,
  shown: Set<string>,
  folds: Shapes['FoldView'][],
): PlotSeries[] {
  const x = folds.map((fold) => fold.cutoff - fold.learn_start)
  const order = x.map((_, i) => i).sort((a, b) => (x[a] ?? 0) - (x[b] ?? 0))
  return entrants(found, shown).map(({ name, place }) => {
    const mark = markOf(names, name)
    const y = order.map((i) => found?.errors[place]?.[i] ?? null)
    return { label: name, kind: 'line', x: order.map((i) => x[i] ?? 0), y, color: mark.css, dash: mark.dash }
  })
}

/** The skill of one entrant by weekday and hour. */
export function weekRows(
  found: Found,
  name: string,
): { label: string; values: (number | null)[]; css: string }[] {
  const skill = found?.skill[found.names.indexOf(name)]
  if (!found || !skill) return []
  const at = new Map(found.labels.map((label, i) => [Number(label.replace(/\D+/g, '')), skill[i] ?? null]))
  return DAYS.map((label, day) => ({
    label,
    values: Array.from({ length: HOURS }, (_, hour) => at.get(day * HOURS + hour) ?? null),
    css: 'var(--ink-3)',
  }))
}
