import { useElementSize } from '@vueuse/core'
import type { ECharts, EChartsCoreOption } from 'echarts/core'
import { onBeforeUnmount, shallowRef, watch, type Ref } from 'vue'
import { themeVersion } from '../theme/theme'

/** An ECharts canvas in `host` that follows its size, the theme and what `option` makes of both. */
export function useEchart(
  host: Ref<HTMLElement | undefined>,
  option: (width: number, height: number) => EChartsCoreOption | null,
) {
  const { width, height } = useElementSize(host)
  const chart = shallowRef<ECharts | null>(null)
  let gone = false

  async function draw() {
    if (!host.value || width.value < 30 || height.value < 30) return
    const wanted = option(width.value, height.value)
    if (!wanted) return
    if (!chart.value) {
      const { init } = await import('./echarts')
      if (gone || !host.value || chart.value) return
      chart.value = init(host.value, null, { renderer: 'canvas' })
    }
    chart.value.resize({ width: width.value, height: height.value })
    chart.value.setOption(option(width.value, height.value) ?? wanted, { notMerge: true })
  }
  watch([width, height, themeVersion, () => option(width.value, height.value)], () => void draw(), {
    flush: 'post',
  })
  onBeforeUnmount(() => {
    gone = true
    chart.value?.dispose()
  })
  /** The same picture as SVG text. */
  async function svg(): Promise<string> {
    const { init } = await import('./echarts')
    const size = { width: width.value, height: height.value }
    const picture = init(null, null, { renderer: 'svg', ssr: true, ...size })
    picture.setOption(option(size.width, size.height) ?? {})
    const text = picture.renderToSVGString()
    picture.dispose()
    return text
  }
  return { chart, width, height, svg }
}
