import type { LaneBand, LaneSeries } from './lane'
import { FRAME, layoutOf, plotOption } from './plotOption'
import { timeTicks } from './ticks'

/** A lane as SVG text: the same lines on the same axes, through the library that can write SVG. */
export async function laneSvg(
  series: LaneSeries[],
  bands: LaneBand[],
  span: [number, number],
  size: { width: number; height: number },
  zone: string,
): Promise<string> {
  const edges = bands.flatMap((each) =>
    [each.low, each.high].map((points) => ({
      label: each.label,
      color: each.color,
      dash: [2, 2],
      points: { times: each.times, values: points },
    })),
  )
  const lines = [...edges, ...series].map((each) => {
    const inside = each.points.times.map((time, i) => ({ time, value: each.points.values[i] ?? null }))
    const shown = inside.filter(({ time }) => time >= span[0] && time <= span[1])
    return {
      label: each.label,
      kind: 'line' as const,
      x: shown.map(({ time }) => time),
      y: shown.map(({ value }) => value),
      color: each.color,
      dash: each.dash,
      width: 'width' in each ? each.width : 1,
    }
  })
  const layout = layoutOf({ series: lines }, size.width, size.height)
  const across = size.width - FRAME.left - FRAME.right
  const xTicks = timeTicks(...span, across, zone, [FRAME.left, FRAME.right])
  const { init } = await import('./echarts')
  const picture = init(null, null, { renderer: 'svg', ssr: true, ...size })
  picture.setOption(plotOption({ series: lines }, { ...layout, x: span, xTicks }, null))
  const text = picture.renderToSVGString()
  picture.dispose()
  return text
}
