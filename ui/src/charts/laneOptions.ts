import type uPlot from 'uplot'
import { paint, RIGHT, type LaneBand, type LaneSeries, type Pennant } from './lane'
import { axes } from './laneAxes'
import {
  drawCutoff,
  drawFilled,
  drawLeaving,
  drawMasks,
  drawPennants,
  drawSpan,
  drawThreshold,
  drawVeil,
} from './laneMarks'

/** Pixels above a lane's plot, where its title stands. */
export const HEAD = 24
const FEW = 150

/** What a lane shows, asked anew whenever it is drawn. */
export interface LaneView {
  series: () => LaneSeries[]
  bands: () => LaneBand[]
  pennants: () => Pennant[]
  /** A span that is looked at. */
  tinted?: () => [number, number] | null
  filled: () => { times: number[]; values: (number | null)[]; filled?: number[] } | null
  threshold: () => number | null
  cutoff: () => number | null
  masks: () => [number, number][]
  span: () => [number, number]
  range: () => [number, number]
  /** Whether what leaves the range is marked. */
  leaving: () => boolean
  zone: string
  showTime: boolean
  offset: (note: string) => void
  pointed: (time: number) => void
}

/** Single dots only where few points are in view. */
function dotsWanted(each: LaneSeries, [from, to]: [number, number]): boolean {
  if (!each.dots) return false
  let count = 0
  for (const time of each.points.times) if (time >= from && time <= to) count += 1
  return count < FEW
}

/** Places of points without a neighbour. */
function lonelyPoints(u: uPlot, place: number): number[] {
  const values = u.data[place] ?? []
  const out: number[] = []
  for (let i = 0; i < values.length; i++)
    if (values[i] != null && values[i - 1] == null && values[i + 1] == null) out.push(i)
  return out
}

/** A lane as uPlot takes it. */
export function laneOptions(view: LaneView, width: number, height: number): uPlot.Options {
  const edge = { width: 0, points: { show: false } }
  return {
    width,
    height,
    padding: [HEAD, RIGHT, view.showTime ? 0 : 8, 0],
    legend: { show: false },
    cursor: {
      sync: { key: 'time', setSeries: false },
      drag: { setScale: false, x: false, y: false },
      points: { show: false },
    },
    scales: { x: { time: true, range: () => [...view.span()] }, y: { range: view.range } },
    axes: axes(view.zone, view.showTime, view.offset),
    series: [
      {},
      ...view.bands().flatMap(() => [edge, edge]),
      ...view.series().map((each, i) => ({
        label: each.label,
        stroke: () => paint(each.color),
        width: each.width ?? 1.25,
        alpha: each.alpha ?? 1,
        pxAlign: 0,
        dash: each.dash?.length ? each.dash : undefined,
        points: {
          show: () => Boolean(each.lonely) || dotsWanted(view.series()[i] ?? each, view.span()),
          filter: each.lonely ? lonelyPoints : undefined,
          size: 4,
          fill: () => paint(each.color),
        },
      })),
    ],
    bands: view.bands().map((each, index) => ({
      series: [2 + 2 * index, 1 + 2 * index] as [number, number],
      fill: () => `color-mix(in srgb, ${paint(each.color)} ${each.alpha * 100}%, transparent)`,
    })),
    hooks: {
      drawClear: [
        (u) => {
          drawVeil(u, view.cutoff())
          drawMasks(u, view.masks())
          drawSpan(u, view.tinted?.() ?? null)
        },
      ],
      draw: [
        (u) => {
          const filled = view.filled()
          drawThreshold(u, view.threshold())
          if (filled) drawFilled(u, filled)
          if (view.leaving()) drawLeaving(u, view.series())
          drawPennants(u, view.pennants())
          drawCutoff(u, view.cutoff())
        },
      ],
      setCursor: [(u) => (u.cursor.left ?? -1) >= 0 && view.pointed(u.posToVal(u.cursor.left ?? 0, 'x'))],
    },
  }
}
