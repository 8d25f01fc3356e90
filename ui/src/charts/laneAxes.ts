import type uPlot from 'uplot'
import { token } from '../theme/theme'
import { AXIS_WIDTH, RIGHT } from './lane'
import { numberTicks, timeTicks, type Tick } from './ticks'

const LINE = 26

/** Axes of a lane: calendar ticks in the zone, round numbers with what they count from told to `say`. */
export function axes(zone: string, showTime: boolean, say: (note: string) => void): uPlot.Axis[] {
  const font = '12px "Spline Sans Mono"'
  const common = {
    stroke: () => token('ink-2'),
    font,
    ticks: { show: false },
    border: { show: false },
    gap: 5,
  }
  let times: Tick[] = []
  let numbers: Tick[] = []
  return [
    {
      ...common,
      show: showTime,
      size: showTime ? 24 : 0,
      grid: { show: false },
      splits: (chart, _axis, low, high) => {
        times = timeTicks(low, high, chart.bbox.width / devicePixelRatio, zone, [AXIS_WIDTH, RIGHT - 1])
        return times.map((each) => each.at)
      },
      values: () => times.map((each) => each.text),
    },
    {
      ...common,
      size: AXIS_WIDTH,
      grid: { show: true, stroke: () => token('hairline'), width: 1 },
      splits: (chart, _axis, low, high) => {
        const most = Math.min(Math.max(Math.floor(chart.bbox.height / devicePixelRatio / LINE), 2), 9)
        const found = numberTicks(low, high, most)
        numbers = found.ticks
        say(found.note)
        return numbers.map((each) => each.at)
      },
      values: () => numbers.map((each) => each.text),
    },
  ]
}
