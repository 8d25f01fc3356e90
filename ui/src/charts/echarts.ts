import { BarChart, CustomChart, HeatmapChart, LineChart, ScatterChart } from 'echarts/charts'
import { GridComponent, VisualMapComponent } from 'echarts/components'
import { init, use } from 'echarts/core'
import { CanvasRenderer, SVGRenderer } from 'echarts/renderers'

/** The parts of ECharts that are in use; loaded when the first chart that is not on the time axis is drawn. */
use([
  BarChart,
  CustomChart,
  HeatmapChart,
  LineChart,
  ScatterChart,
  GridComponent,
  VisualMapComponent,
  CanvasRenderer,
  SVGRenderer,
])
export { init }
