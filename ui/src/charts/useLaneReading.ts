import type uPlot from 'uplot'
import { decimalsFor, fixed } from '../state/format'
import { useProject } from '../state/project'
import { useView } from '../state/view'
import { valueAt, type LaneSeries } from './lane'
import { useReadout } from './readout'

/** What a lane says of a time in the readout; arrow keys move along the grid, and the view follows. */
export function useLaneReading(
  lane: () => { name: string; unit: string; series: LaneSeries[] },
  chart: () => uPlot | null,
) {
  const store = useProject()
  const view = useView()
  const { tell } = useReadout(() => lane().name)

  function read(time: number) {
    view.hover = time
    const { series, unit } = lane()
    const reach = (store.axis?.grid.seconds ?? 32 * 86400) * 1.01
    const decimals = decimalsFor(series.flatMap((each) => each.points.values.slice(0, 50)))
    tell(
      series.flatMap((each) => {
        const value = each.quiet ? null : valueAt(each.points, time, reach)
        return value === null
          ? []
          : [{ label: each.label, value: `${fixed(value, decimals)} ${unit}`, color: each.color }]
      }),
    )
  }
  function step(by: number) {
    const axis = store.axis
    if (!axis) return
    const now = view.hover === null ? view.cutoff - 1 : axis.position(view.hover + 1e-6)
    const time = axis.time(Math.min(Math.max(now + by, 0), axis.end - 1))
    if (time < view.span[0] || time > view.span[1]) {
      const half = (view.span[1] - view.span[0]) / 2
      view.setSpan(time - half, time + half)
    }
    const u = chart()
    if (u) u.setCursor({ left: u.valToPos(time, 'x'), top: 10 })
    read(time)
  }
  return { read, step }
}
