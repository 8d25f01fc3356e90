import type uPlot from 'uplot'
import { token } from '../theme/theme'
import { paint, type LaneSeries, type Pennant, type Points } from './lane'

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

/** A tint behind a span that is looked at. */
export function drawSpan(chart: uPlot, span: [number, number] | null) {
  if (!span) return
  const { left, top, width, height } = chart.bbox
  const from = Math.max(chart.valToPos(span[0], 'x', true), left)
  const to = Math.min(chart.valToPos(span[1], 'x', true), left + width)
  const wide = Math.max(to - from, 4 * devicePixelRatio)
  if (from > left + width || to < left) return
  chart.ctx.save()
  chart.ctx.fillStyle = token('cutoff')
  chart.ctx.globalAlpha = 0.09
  chart.ctx.fillRect(Math.min(from, left + width - wide), top, wide, height)
  chart.ctx.restore()
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
    ctx.fillStyle = each.verdict === 'right' ? token('ink') : token('panel')
    ctx.fill()
    ctx.stroke()
    if (each.verdict === 'wrong') {
      ctx.beginPath()
      ctx.moveTo(x - 2 * ratio, top + tall * 0.7)
      ctx.lineTo(x + wide + 2 * ratio, top)
      ctx.stroke()
    }
  }
  ctx.restore()
}

/** A dashed line at a score's threshold. */
export function drawThreshold(chart: uPlot, threshold: number | null) {
  if (threshold === null) return
  const y = chart.valToPos(threshold, 'y', true)
  const ctx = chart.ctx
  ctx.save()
  ctx.strokeStyle = token('ink')
  ctx.setLineDash([6 * devicePixelRatio, 4 * devicePixelRatio])
  ctx.beginPath()
  ctx.moveTo(chart.bbox.left, y)
  ctx.lineTo(chart.bbox.left + chart.bbox.width, y)
  ctx.stroke()
  ctx.restore()
}

/** A triangle at the edge where a value leaves a robust axis. */
export function drawLeaving(chart: uPlot, series: LaneSeries[]) {
  const { min, max } = chart.scales.y ?? {}
  if (min == null || max == null) return
  const { left, top, width, height } = chart.bbox
  const size = 4 * devicePixelRatio
  const ctx = chart.ctx
  ctx.save()
  for (const each of series) {
    ctx.fillStyle = paint(each.color)
    each.points.values.forEach((value, i) => {
      if (value === null || (value <= max && value >= min)) return
      const x = chart.valToPos(each.points.times[i] as number, 'x', true)
      if (x < left || x > left + width) return
      const [edge, way] = value > max ? [top, 1] : [top + height, -1]
      ctx.beginPath()
      ctx.moveTo(x, edge)
      ctx.lineTo(x - size, edge + way * 1.6 * size)
      ctx.lineTo(x + size, edge + way * 1.6 * size)
      ctx.fill()
    })
  }
  ctx.restore()
}
