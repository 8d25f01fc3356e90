import type uPlot from 'uplot'
import type { Pennant } from './lane'

/** A tick on the ground for every origin. */
export function drawOrigins(chart: uPlot, times: number[], color: string) {
  const { top, height } = chart.bbox
  const ratio = devicePixelRatio
  chart.ctx.fillStyle = color
  for (const time of times)
    chart.ctx.fillRect(chart.valToPos(time, 'x', true), top + height - 2 * ratio, ratio, 6 * ratio)
}

/** A tick at the top for every row of a table that is in view. */
export function drawRows(chart: uPlot, times: number[], color: string) {
  const ratio = devicePixelRatio
  chart.ctx.fillStyle = color
  for (const time of times)
    chart.ctx.fillRect(chart.valToPos(time, 'x', true) - ratio, 0, 2 * ratio, 10 * ratio)
}

/** A small pennant at the top for every flag. */
export function drawFlagTicks(chart: uPlot, pennants: Pennant[], color: string) {
  const ratio = devicePixelRatio
  const ctx = chart.ctx
  ctx.fillStyle = color
  for (const each of pennants) {
    const x = chart.valToPos(each.start, 'x', true)
    ctx.beginPath()
    ctx.moveTo(x, 0)
    ctx.lineTo(x + 5 * ratio, 3 * ratio)
    ctx.lineTo(x, 6 * ratio)
    ctx.fill()
  }
}
