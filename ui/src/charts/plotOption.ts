import type { EChartsCoreOption } from 'echarts/core'
import { token } from '../theme/theme'
import { paint } from './lane'
import { extent, halfBar, type Plot, type PlotSeries } from './plot'
import { CHARACTER, logTicks, numberTicks, type Tick } from './ticks'

/** Room around what a chart shows, in pixels. */
export const FRAME = { left: 50, right: 10, top: 8, bottom: 20 }
const LABEL = 6
const WORDS = { fontSize: 12, fontFamily: 'Hanken Grotesk Variable' }

export interface Layout {
  x: [number, number]
  y: [number, number]
  xTicks: Tick[]
  yTicks: Tick[]
  /** What labels count from, where they do. */
  note: string
  width: number
  height: number
}

const scaled = (plot: Plot, x: number) => (plot.logX ? Math.log10(Math.max(x, 1e-12)) : x)

function horizontal(plot: Plot): [number, number] {
  if (plot.names) return [-0.5, Math.max(plot.names.length, 1) - 0.5]
  const [low, high] = extent(plot.series.flatMap((each) => each.x).map((x) => scaled(plot, x)))
  const bars = plot.series.filter((each) => each.kind === 'bars')
  const room = bars.length ? Math.max(...bars.map(halfBar)) : 0
  return low - room < high + room ? [low - room, high + room] : [low - 0.5, high + 0.5]
}

function vertical(plot: Plot, within: [number, number] | null): [number, number] {
  let [low, high] = within ?? extent(plot.series.flatMap((each) => [...each.y, ...(each.to ?? [])]))
  if (plot.fromZero || plot.series.some((each) => each.kind === 'bars')) {
    low = Math.min(low, 0)
    high = Math.max(high, 0)
  }
  const room = (high - low || Math.abs(high) || 1) * 0.06
  return [low < 0 || !plot.fromZero ? low - room : low, high + room]
}

/** Names that have room, the same number left out between each. */
function nameTicks(names: string[], pixels: number): Tick[] {
  const widest = Math.max(1, ...names.map((each) => each.length)) * CHARACTER + 10
  const every = Math.max(1, Math.ceil(widest / (pixels / Math.max(names.length, 1))))
  return names.map((text, at) => ({ at, text })).filter((_, i) => i % every === 0)
}

/** As many round numbers as have room beside each other. */
function roomyTicks(low: number, high: number, pixels: number): Tick[] {
  for (let most = Math.floor(pixels / 26); most > 2; most--) {
    const { ticks } = numberTicks(low, high, most, LABEL)
    const widest = Math.max(...ticks.map((each) => each.text.length), 1) * CHARACTER
    if (widest + 12 <= pixels / Math.max(ticks.length, 1)) return ticks
  }
  return numberTicks(low, high, 2, LABEL).ticks
}

/** Ranges and ticks of a plot in so many pixels; `within` is the range of values shown, where it is not all. */
export function layoutOf(
  plot: Plot,
  width: number,
  height: number,
  within: [number, number] | null = null,
): Layout {
  const x = horizontal(plot)
  const y = vertical(plot, within)
  const across = Math.max(width - FRAME.left - FRAME.right, 20)
  const down = Math.max(height - FRAME.top - FRAME.bottom, 20)
  const px = (at: number) => FRAME.left + ((at - x[0]) / (x[1] - x[0])) * across
  const most = Math.max(Math.floor(across / ((LABEL + 1) * CHARACTER)), 2)
  const marks = plot.names
    ? nameTicks(plot.names, across)
    : plot.logX
      ? logTicks(10 ** x[0], 10 ** x[1], most).map(({ at, text }) => ({ at: Math.log10(at), text }))
      : roomyTicks(x[0], x[1], across)
  const end = width - (plot.xLabel ? plot.xLabel.length * 6.5 + 10 : 0)
  const fits = ({ at, text }: Tick) =>
    px(at) + (text.length * CHARACTER) / 2 < end && px(at) - (text.length * CHARACTER) / 2 > FRAME.left - 26
  const values = numberTicks(y[0], y[1], Math.min(Math.max(Math.floor(down / 26), 2), 8), LABEL)
  return { x, y, xTicks: marks.filter(fits), yTicks: values.ticks, note: values.note, width, height }
}

/** Where a point of the plot lies, in pixels. */
export function place(layout: Layout, plot: Plot, x: number, y: number): [number, number] {
  const across = layout.width - FRAME.left - FRAME.right
  const down = layout.height - FRAME.top - FRAME.bottom
  return [
    FRAME.left + ((scaled(plot, x) - layout.x[0]) / (layout.x[1] - layout.x[0])) * across,
    FRAME.top + (1 - (y - layout.y[0]) / (layout.y[1] - layout.y[0])) * down,
  ]
}

function axisOf(ticks: Tick[], range: [number, number], grid: boolean) {
  const at = ticks.map((each) => each.at)
  const text = new Map(ticks.map((each) => [each.at, each.text]))
  const font = { color: token('ink-2'), fontSize: 12, fontFamily: '"Spline Sans Mono"' }
  return {
    type: 'value',
    min: range[0],
    max: range[1],
    axisTick: { show: false, customValues: at },
    axisLine: { show: false, onZero: false },
    splitLine: { show: grid, lineStyle: { color: token('hairline'), width: 1 } },
    axisLabel: {
      ...font,
      customValues: at,
      hideOverlap: false,
      showMinLabel: null,
      showMaxLabel: null,
      formatter: (value: number) => text.get(value) ?? '',
    },
  }
}

function seriesOf(each: PlotSeries, plot: Plot, layout: Layout, picked: number | null) {
  const color = paint(each.color)
  const data = each.y.map((value, i) => [scaled(plot, each.x[i] as number), value])
  const common = {
    name: each.label,
    silent: true,
    animation: false,
    clip: true,
    z: each.still ? 1 : (each.alpha ?? 1) < 1 ? 2 : 3,
  }
  if (each.kind === 'line') {
    const lineStyle = {
      color,
      width: each.width ?? 1.25,
      type: each.dash?.length ? each.dash : 'solid',
      opacity: each.alpha ?? 1,
    }
    return { ...common, type: 'line', data, showSymbol: false, connectNulls: false, lineStyle }
  }
  if (each.kind === 'points') {
    const itemStyle = { color, opacity: each.alpha ?? (data.length > 300 ? 0.55 : 1) }
    const stands = (i: number) =>
      picked === i ? { symbolSize: 10, itemStyle: { color: token('cutoff'), opacity: 1 } } : {}
    return {
      ...common,
      type: 'scatter',
      symbolSize: 4,
      itemStyle,
      data: data.map((value, i) => ({ value, ...stands(i) })),
    }
  }
  const across = (layout.width - FRAME.left - FRAME.right) / (layout.x[1] - layout.x[0])
  if (each.kind === 'bars') {
    const beside = plot.series.filter((one) => one.kind === 'bars').length
    const share = beside > 1 ? 0.8 / beside : 0.74
    return {
      ...common,
      type: 'bar',
      barWidth: Math.max(2 * halfBar(each) * across * share, 1),
      barGap: '-100%',
      itemStyle: { color, opacity: each.alpha ?? 1 },
      data: data.map((value, i) =>
        each.marked?.includes(i) ? { value, itemStyle: { color: token('c4') } } : { value },
      ),
    }
  }
  return {
    ...common,
    type: 'custom',
    data: data.map((value, i) => [...value, each.to?.[i] ?? null]),
    renderItem: (_: unknown, api: { value: (at: number) => number; coord: (at: number[]) => number[] }) => {
      const [x = 0, low = 0] = api.coord([api.value(0), api.value(1)])
      const [, high = 0] = api.coord([api.value(0), api.value(2)])
      return {
        type: 'line',
        shape: { x1: x, x2: x, y1: low, y2: high },
        style: { stroke: color, lineWidth: 1 },
      }
    },
  }
}

/** Vertical lines at what deserves a mention, and the horizontal one at zero. */
function ruled(plot: Plot, layout: Layout) {
  const room = (label: string, at: number) => {
    const [x] = place({ ...layout }, { ...plot, logX: false }, at, 0)
    return x + label.length * CHARACTER + 8 < layout.width - FRAME.right
  }
  const line = (
    name: string,
    data: number[][],
    color: string,
    dash: number[] | 'solid',
    label = '',
    i = 0,
  ) => ({
    name,
    type: 'line',
    data,
    silent: true,
    animation: false,
    showSymbol: false,
    z: 1,
    lineStyle: { color, width: 1, type: dash },
    endLabel: label
      ? {
          show: true,
          formatter: label,
          color: token('ink-2'),
          ...WORDS,
          ...(room(label, data[0]?.[0] ?? 0)
            ? { align: 'left', offset: [-2, 8 + 13 * (i % 3)] }
            : { align: 'right', offset: [-12, 8 + 13 * (i % 3)] }),
        }
      : undefined,
  })
  const out = (plot.marks ?? []).map((mark, i) => {
    const at = scaled(plot, mark.x)
    return line(
      mark.label,
      [
        [at, layout.y[0]],
        [at, layout.y[1]],
      ],
      token('ink-3'),
      [2, 3],
      mark.label,
      i,
    )
  })
  if (layout.y[0] <= 0 && layout.y[1] >= 0)
    out.push(line('zero', [[layout.x[0], 0], [layout.x[1], 0]], token('ink-3'), 'solid')) // prettier-ignore
  return out
}

/** A triangle at the edge where a value leaves the range. */
function leaving(plot: Plot, layout: Layout) {
  const [low, high] = layout.y
  const out = plot.series.flatMap((each) =>
    each.y.flatMap((value, i) =>
      value !== null && (value > high || value < low)
        ? [{ at: scaled(plot, each.x[i] as number), up: value > high, color: paint(each.color) }]
        : [],
    ),
  )
  if (!out.length) return []
  const data = out.map(({ at, up, color }) => ({
    value: [at, up ? high : low],
    symbolRotate: up ? 0 : 180,
    symbolOffset: [0, up ? 4 : -4],
    itemStyle: { color },
  }))
  const common = { name: 'beyond the axis', silent: true, animation: false, clip: false, z: 3 }
  return [{ ...common, type: 'scatter', symbol: 'triangle', symbolSize: 8, data }]
}

/** The plot as the library takes it. */
export function plotOption(plot: Plot, layout: Layout, picked: number | null): EChartsCoreOption {
  return {
    animation: false,
    grid: { ...FRAME, containLabel: false, outerBoundsMode: 'none' },
    xAxis: {
      ...axisOf(layout.xTicks, layout.x, false),
      name: plot.xLabel ?? '',
      nameLocation: 'end',
      nameGap: 0,
      nameTextStyle: {
        align: 'right',
        verticalAlign: 'top',
        padding: [6, 0, 0, 0],
        color: token('ink-2'),
        ...WORDS,
      },
    },
    yAxis: axisOf(layout.yTicks, layout.y, true),
    series: [
      ...ruled(plot, layout),
      ...leaving(plot, layout),
      ...plot.series.map((each) =>
        seriesOf(each, plot, layout, each.kind === 'points' && !each.still ? picked : null),
      ),
    ],
  }
}
