/** What a chart whose horizontal axis is not time shows, in our own words: the library is told by `plotOption`. */
export interface PlotSeries {
  label: string
  kind: 'line' | 'points' | 'bars' | 'spans'
  x: number[]
  y: (number | null)[]
  /** The other end of a span. */
  to?: (number | null)[]
  /** A colour, or a token as `var(--name)`. */
  color: string
  dash?: number[]
  width?: number
  alpha?: number
  /** Places that stand out among bars. */
  marked?: number[]
  /** There only to compare with: not read under the pointer. */
  still?: boolean
}

export interface Plot {
  series: PlotSeries[]
  xLabel?: string
  /** What places 0, 1, … are called, where the axis has names instead of numbers. */
  names?: string[]
  logX?: boolean
  fromZero?: boolean
  marks?: { x: number; label: string }[]
}

/** Lowest and highest of what is there; [0, 1] when nothing is. */
export function extent(values: Iterable<number | null | undefined>): [number, number] {
  let low = Infinity
  let high = -Infinity
  for (const value of values) {
    if (value === null || value === undefined || !Number.isFinite(value)) continue
    if (value < low) low = value
    if (value > high) high = value
  }
  return low <= high ? [low, high] : [0, 1]
}

const EXTREME = 6

/** The range that holds all but what one or a few extreme values would flatten; the whole range where none does. */
export function robustRange(values: (number | null | undefined)[]): [number, number] {
  const known = values.filter((v): v is number => typeof v === 'number' && Number.isFinite(v))
  const whole = extent(known)
  if (known.length < 12) return whole
  known.sort((a, b) => a - b)
  const at = (share: number) => known[Math.round(share * (known.length - 1))] as number
  const [low, high] = known.length < 60 ? [at(0.1), at(0.9)] : [at(0.02), at(0.98)]
  const reach = high - low
  if (!(reach > 0) || whole[1] - whole[0] <= EXTREME * reach) return whole
  return [Math.max(whole[0], low - reach / 4), Math.min(whole[1], high + reach / 4)]
}

/** Half the distance between two bars. */
export const halfBar = (each: PlotSeries) =>
  each.x.length > 1 ? ((each.x[1] as number) - (each.x[0] as number)) / 2 : 0.5

/** Bars by name, with their middle half as a line, and in grey beside them what they were before. */
export function namedBars(
  names: (string | number)[],
  values: (number | null)[],
  more: {
    color?: string
    low?: (number | null)[]
    high?: (number | null)[]
    before?: (number | null)[]
    bound?: number
  } = {},
): { names: string[]; series: PlotSeries[]; fromZero: true } {
  const x = values.map((_, i) => i)
  const label = 'value'
  const series: PlotSeries[] = []
  const apart = more.before ? 0.21 : 0
  if (more.before)
    series.push({
      label: 'before',
      kind: 'bars',
      x: x.map((at) => at - apart),
      y: more.before,
      color: 'var(--ink-3)',
    })
  series.push({
    label: more.before ? 'after' : label,
    kind: 'bars',
    x: x.map((at) => at + apart),
    y: values,
    color: more.color ?? 'var(--ink-3)',
  })
  if (more.low && more.high)
    series.push({ label: 'middle half', kind: 'spans', x, y: more.low, to: more.high, color: 'var(--ink)' })
  for (const edge of more.bound ? [more.bound, -more.bound] : [])
    series.push({
      label: 'bound',
      kind: 'line',
      x: [-0.5, values.length - 0.5],
      y: [edge, edge],
      color: 'var(--ink-3)',
      dash: [3, 3],
      still: true,
    })
  return { names: names.map(String), series, fromZero: true }
}
