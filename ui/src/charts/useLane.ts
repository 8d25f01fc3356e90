import { useElementSize } from '@vueuse/core'
import uPlot from 'uplot'
import 'uplot/dist/uPlot.min.css'
import { onBeforeUnmount, watch, type Ref } from 'vue'
import { themeVersion } from '../theme/theme'

/**
 * A uPlot in `host` that follows its size and the theme.
 *
 * It is built anew when `shape` changes (what lines there are), given new data when `lines` do, and drawn again when
 * `marks` do.
 */
export function useLane(
  host: Ref<HTMLElement | undefined>,
  ask: {
    options: (width: number, height: number) => uPlot.Options
    data: () => uPlot.AlignedData
    /** What the data is made of. */
    lines: () => unknown
    shape: () => unknown
    span: () => [number, number]
    marks: () => unknown
    built?: (chart: uPlot) => void
  },
) {
  const { width, height } = useElementSize(host)
  let chart: uPlot | null = null
  let frame = 0

  function build() {
    chart?.destroy()
    chart = null
    if (!host.value || width.value < 20 || height.value < 20) return
    chart = new uPlot(ask.options(width.value, height.value), ask.data(), host.value)
    ask.built?.(chart)
  }
  function refill() {
    cancelAnimationFrame(frame)
    frame = requestAnimationFrame(() => chart?.setData(ask.data(), true))
  }
  watch([width, height], ([w, h]) => {
    if (chart && w >= 20 && h >= 20) chart.setSize({ width: w, height: h })
    else build()
  })
  watch([ask.shape, themeVersion], build, { flush: 'post' })
  watch(ask.lines, refill, { flush: 'post' })
  watch(ask.span, ([min, max]) => chart?.setScale('x', { min, max }))
  watch(ask.marks, () => chart?.redraw(false, true))
  onBeforeUnmount(() => {
    cancelAnimationFrame(frame)
    chart?.destroy()
  })
  return { chart: () => chart }
}
