import uPlot from 'uplot'
import { token } from '../theme/theme'

export interface Points {
  times: number[]
  values: (number | null)[]
}

export interface LaneSeries {
  label: string
  points: Points
  color: string
  width?: number
  dash?: number[]
  /** Draw single points when few are in view. */
  dots?: boolean
}

export interface LaneBand {
  label: string
  times: number[]
  low: (number | null)[]
  high: (number | null)[]
  color: string
  alpha: number
}

export interface Pennant {
  id: number
  start: number
  stop: number
  score: number
  kind: string
  verdict: string
}

export const AXIS_WIDTH = 56

/** Resolve `var(--x)` for canvases. */
export function paint(color: string): string {
  const match = /^var\(--([\w-]+)\)$/.exec(color)
  return match?.[1] ? token(match[1]) : color
}

/** Split observed values at the cutoff: known ones in ink, later ones thin and pale. */
export function splitAt(points: Points, cutoff: number): [Points, Points] {
  let at = points.times.findIndex((time) => time > cutoff)
  if (at < 0) at = points.times.length
  const from = Math.max(at - 1, 0)
  return [
    { times: points.times.slice(0, at), values: points.values.slice(0, at) },
    { times: points.times.slice(from), values: points.values.slice(from) },
  ]
}

export function observedSeries(points: Points, cutoff: number, label = 'observed'): LaneSeries[] {
  const [known, later] = splitAt(points, cutoff)
  return [
    { label, points: known, color: 'var(--ink)', width: 1.25, dots: true },
    { label: `${label}, later`, points: later, color: 'var(--ink-3)', width: 0.75 },
  ]
}

/** The value at or just before a time, null when there is none near. */
export function valueAt(points: Points, time: number, reach: number): number | null {
  const { times, values } = points
  let low = 0
  let high = times.length
  while (low < high) {
    const middle = (low + high) >> 1
    if ((times[middle] ?? 0) <= time) low = middle + 1
    else high = middle
  }
  const before = low - 1
  const near =
    before < 0 || (low < times.length && (times[low] ?? 0) - time < time - (times[before] ?? 0))
      ? low
      : before
  if (near < 0 || near >= times.length || Math.abs((times[near] ?? 0) - time) > reach) return null
  return values[near] ?? null
}

const DAY = 86400

/** Calendar labels in the dataset's zone: hours, days, months, years as the spacing asks. */
export function timeLabels(zone: string): uPlot.Axis.DynamicValues {
  const part = (options: Intl.DateTimeFormatOptions) =>
    new Intl.DateTimeFormat('en-GB', { timeZone: zone, hour12: false, ...options })
  const clock = part({ hour: '2-digit', minute: '2-digit' })
  const day = part({ weekday: 'short', day: 'numeric' })
  const dates = part({ day: 'numeric', month: 'short' })
  const date = { format: (at: Date) => dates.format(at).replace('Sept', 'Sep') }
  const months = part({ month: 'short' })
  const month = { format: (at: Date) => months.format(at).replace('Sept', 'Sep') }
  const year = part({ year: 'numeric' })
  return (_chart, splits, _axis, _space, increment) =>
    splits.map((time, index) => {
      const at = new Date(time * 1000)
      if (increment >= 360 * DAY) return year.format(at)
      if (increment >= 27 * DAY) return month.format(at) === 'Jan' ? year.format(at) : month.format(at)
      if (increment >= DAY)
        return index === 0 || Number(at.getUTCDate()) < 4 || increment >= 5 * DAY
          ? date.format(at)
          : day.format(at)
      const hour = clock.format(at)
      return hour === '00:00' ? day.format(at) : hour
    })
}

export function axes(zone: string, unit: string, showTime: boolean): uPlot.Axis[] {
  const font = '12px "Spline Sans Mono"'
  const common = { stroke: () => token('ink-2'), font, ticks: { show: false }, border: { show: false } }
  return [
    {
      ...common,
      size: showTime ? 24 : 0,
      show: showTime,
      grid: { show: false },
      space: 90,
      gap: 4,
      values: timeLabels(zone),
    },
    {
      ...common,
      size: AXIS_WIDTH,
      gap: 6,
      space: 24,
      label: unit || undefined,
      labelSize: 0,
      labelFont: font,
      grid: { show: true, stroke: () => token('hairline'), width: 1 },
      values: (_chart, splits, _axis, _space, increment) => splits.map((value) => short(value, increment)),
    },
  ]
}

/** An axis label with the decimals its spacing needs. */
function short(value: number | null, increment: number): string {
  if (value === null) return ''
  const size = Math.abs(value)
  if (size >= 1e6) return `${+(value / 1e6).toPrecision(4)}M`
  if (size >= 1e5) return `${+(value / 1e3).toPrecision(4)}k`
  return value.toFixed(Math.min(Math.max(-Math.floor(Math.log10(increment) + 1e-9), 0), 6))
}

/** What lies behind the lines: the veil over the future of the cutoff. */
export function drawVeil(chart: uPlot, cutoff: number | null) {
  if (cutoff === null) return
  const { left, top, width, height } = chart.bbox
  const from = Math.max(chart.valToPos(cutoff, 'x', true), left)
  if (from >= left + width) return
  chart.ctx.save()
  chart.ctx.fillStyle = token('veil')
  chart.ctx.fillRect(from, top, left + width - from, height)
  chart.ctx.restore()
}

/** Grey hatching where a mask lies. */
export function drawMasks(chart: uPlot, spans: [number, number][]) {
  const { left, top, width, height } = chart.bbox
  for (const [from, to] of spans) {
    const a = Math.max(chart.valToPos(from, 'x', true), left)
    const b = Math.min(chart.valToPos(to, 'x', true), left + width)
    if (b > a) hatch(chart.ctx, a, top, b - a, height)
  }
}

export function hatch(ctx: CanvasRenderingContext2D, x: number, y: number, width: number, height: number) {
  const gap = 6 * devicePixelRatio
  ctx.save()
  ctx.beginPath()
  ctx.rect(x, y, Math.max(width, devicePixelRatio), height)
  ctx.clip()
  ctx.strokeStyle = token('ink-3')
  ctx.globalAlpha = 0.55
  ctx.lineWidth = devicePixelRatio
  ctx.beginPath()
  for (let at = x - height - (x % gap); at < x + width; at += gap) {
    ctx.moveTo(at, y + height)
    ctx.lineTo(at + height, y)
  }
  ctx.stroke()
  ctx.restore()
}

/** Hollow dots on the filled points. */
export function drawFilled(chart: uPlot, points: Points & { filled?: number[] }) {
  const { left, width } = chart.bbox
  const ctx = chart.ctx
  ctx.save()
  ctx.strokeStyle = token('ink')
  ctx.fillStyle = token('panel')
  ctx.lineWidth = devicePixelRatio
  for (const at of points.filled ?? []) {
    const value = points.values[at]
    if (value === null || value === undefined) continue
    const x = chart.valToPos(points.times[at] as number, 'x', true)
    if (x < left || x > left + width) continue
    ctx.beginPath()
    ctx.arc(x, chart.valToPos(value, 'y', true), 2.5 * devicePixelRatio, 0, 2 * Math.PI)
    ctx.fill()
    ctx.stroke()
  }
  ctx.restore()
}

export function drawCutoff(chart: uPlot, cutoff: number | null) {
  if (cutoff === null) return
  const { left, top, width, height } = chart.bbox
  const x = chart.valToPos(cutoff, 'x', true)
  if (x < left || x > left + width) return
  chart.ctx.save()
  chart.ctx.fillStyle = token('cutoff')
  chart.ctx.fillRect(x - devicePixelRatio * 0.75, top, devicePixelRatio * 1.5, height)
  chart.ctx.restore()
}

/** Pennants on the lane's top edge: height is the score, the cut the kind, the fill the verdict. */
export function drawPennants(chart: uPlot, pennants: Pennant[]) {
  const { left, top, width } = chart.bbox
  const ratio = devicePixelRatio
  const ctx = chart.ctx
  const highest = Math.max(1, ...pennants.map((each) => each.score))
  ctx.save()
  ctx.strokeStyle = token('ink')
  ctx.lineWidth = ratio
  for (const each of pennants) {
    const x = chart.valToPos(each.start, 'x', true)
    if (x < left || x > left + width) continue
    const tall = (8 + 14 * Math.sqrt(each.score / highest)) * ratio
    const wide = 7 * ratio
    ctx.beginPath()
    ctx.moveTo(x, top + tall)
    ctx.lineTo(x, top + ratio)
    if (each.kind === 'spike') ctx.lineTo(x + wide, top + tall * 0.35)
    else {
      ctx.lineTo(x + wide, top + ratio)
      ctx.lineTo(x + wide, top + tall * 0.6)
    }
    ctx.lineTo(x, top + tall * 0.6)
    ctx.fillStyle = each.verdict === 'confirmed' ? token('ink') : token('panel')
    ctx.fill()
    ctx.stroke()
    if (each.verdict === 'dismissed') {
      ctx.beginPath()
      ctx.moveTo(x - 2 * ratio, top + tall * 0.7)
      ctx.lineTo(x + wide + 2 * ratio, top)
      ctx.stroke()
    }
  }
  ctx.restore()
}
