import { useElementSize } from '@vueuse/core'
import type { ECharts, EChartsCoreOption } from 'echarts/core'
import { computed, onBeforeUnmount, shallowRef, watch, type Ref } from 'vue'
import { themeVersion } from '../theme/theme'

/** An ECharts canvas in `host` that follows its size, the theme and what `option` makes of both. */
export function useEchart(
  host: Ref<HTMLElement | undefined>,
  option: (width: number, height: number) => EChartsCoreOption | null,
) {
  const { width, height } = useElementSize(host)
  const chart = shallowRef<ECharts | null>(null)
  let gone = false
  const wanted = computed(() => {
    void themeVersion.value // colours are read from the page
    return width.value < 30 || height.value < 30 ? null : option(width.value, height.value)
  })

  async function draw() {
    if (!host.value || !wanted.value) {
      chart.value?.clear()
      return
    }
    if (!chart.value) {
      const { init } = await import('./echarts')
      await new Promise((done) => requestIdleCallback(done, { timeout: 300 })) // words before pictures
      if (gone || !host.value || chart.value || !wanted.value) return
      chart.value = init(host.value, null, { renderer: 'canvas' })
    }
    chart.value.resize({ width: width.value, height: height.value })
    chart.value.setOption(wanted.value, { notMerge: true })
  }
  watch(wanted, () => void draw(), { flush: 'post' })
  onBeforeUnmount(() => {
    gone = true
    chart.value?.dispose()
  })
  /** The same picture as SVG text. */
  async function svg(): Promise<string> {
    const { init } = await import('./echarts')
    const size = { width: width.value, height: height.value }
    const picture = init(null, null, { renderer: 'svg', ssr: true, ...size })
    picture.setOption(wanted.value ?? {})
    const text = picture.renderToSVGString()
    picture.dispose()
    return text
  }
  return { chart, width, height, svg }
}
