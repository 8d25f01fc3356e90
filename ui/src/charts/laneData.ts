import uPlot from 'uplot'
import type { LaneBand, LaneSeries } from './lane'
import { extent, robustRange } from './plot'

/** Bands and lines on one common time axis, as uPlot takes them. */
export function aligned(series: LaneSeries[], bands: LaneBand[]): uPlot.AlignedData {
  const tables = [
    ...bands.map((each) => [each.times, each.low, each.high] as uPlot.AlignedData),
    ...series.map((each) => [each.points.times, each.points.values] as uPlot.AlignedData),
  ]
  if (!tables.length) return [[]]
  return uPlot.join(
    tables,
    tables.map((table) => table.map(() => 1)),
  )
}

/** Values between two times. */
function within(times: number[], values: (number | null)[], [from, to]: [number, number]): number[] {
  const out: number[] = []
  for (let i = 0; i < times.length; i++) {
    const value = values[i]
    if ((times[i] as number) >= from && (times[i] as number) <= to && value !== null && value !== undefined)
      out.push(value)
  }
  return out
}

/** Lowest and highest value in view, with a little room; and whether a few extremes flatten what is drawn. */
export function valueRange(
  series: LaneSeries[],
  bands: LaneBand[],
  span: [number, number],
  more: { threshold: number | null; fromZero: boolean; robust: boolean },
): { low: number; high: number; flattened: boolean } {
  const shown = series.flatMap((each) => within(each.points.times, each.points.values, span))
  const around = bands.flatMap((each) => [
    ...within(each.times, each.low, span),
    ...within(each.times, each.high, span),
  ])
  const whole = extent(shown)
  const inner = robustRange(shown)
  const flattened = inner[0] > whole[0] || inner[1] < whole[1]
  const taken = more.robust && flattened ? inner : whole
  let [low, high] =
    shown.length || around.length ? extent([...(shown.length ? taken : []), ...around]) : [0, 1]
  if (more.threshold !== null) high = Math.max(high, more.threshold)
  if (more.fromZero) low = Math.min(low, 0)
  const room = (high - low || Math.abs(high) || 1) * 0.08
  return { low: more.fromZero && low >= 0 ? 0 : low - room, high: high + room, flattened }
}

/** Rows of a lane as a table: time, series, value. */
export const laneRows = (series: LaneSeries[]) =>
  series.flatMap((each) =>
    each.points.times.map((time, i) => [
      new Date(time * 1000).toISOString(),
      each.label,
      each.points.values[i] ?? null,
    ]),
  ) as (string | number | null)[][]
