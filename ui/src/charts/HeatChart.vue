<script setup lang="ts">
import { computed, ref } from 'vue'
import { signed } from '../state/format'
import { token } from '../theme/theme'
import ChartFigure from './ChartFigure.vue'
import { paint } from './lane'
import { useReadout } from './readout'
import { CHARACTER } from './ticks'
import { useEchart } from './useEchart'

/** Skill by row and column: blue-green better, ochre worse than the baseline; the number is read in the readout. */
const props = defineProps<{
  title: string
  rows: { label: string; values: (number | null)[]; css: string }[]
  columns: string[]
}>()
const figure = ref<InstanceType<typeof ChartFigure>>()
const host = computed(() => figure.value?.host)
const FRAME = { left: 92, right: 2, top: 2, bottom: 18 }
const NAME = 12
const at = ref<{ row: number; column: number } | null>(null)

function shade(value: number): { color: string; opacity: number } {
  const opacity = 0.08 + Math.min(Math.abs(value) / 0.5, 1) * 0.85
  return { color: token(value >= 0 ? 'better' : 'worse'), opacity }
}
const short = (label: string) => (label.length > NAME ? `${label.slice(0, NAME - 1)}…` : label)
const { width, height, svg } = useEchart(host, (w) => {
  if (!props.rows.length) return null
  const every = Math.max(
    1,
    Math.ceil(
      (props.columns.length * (Math.max(...props.columns.map((each) => each.length), 1) * CHARACTER + 8)) /
        (w - FRAME.left - FRAME.right),
    ),
  )
  const label = { color: token('ink-2'), fontSize: 12, fontFamily: 'Hanken Grotesk Variable' }
  const hidden = { axisLine: { show: false }, axisTick: { show: false }, splitArea: { show: false } }
  return {
    animation: false,
    grid: { ...FRAME, outerBoundsMode: 'none' },
    xAxis: {
      type: 'category',
      data: props.columns,
      ...hidden,
      axisLabel: { ...label, fontFamily: '"Spline Sans Mono"', interval: every - 1, hideOverlap: false },
    },
    yAxis: {
      type: 'category',
      data: props.rows.map((each) => short(each.label)),
      inverse: true,
      ...hidden,
      axisLabel: {
        ...label,
        interval: 0,
        formatter: (text: string, i: number) => `{r${i}|▬} ${text}`,
        rich: Object.fromEntries(props.rows.map((each, i) => [`r${i}`, { color: paint(each.css) }])),
      },
    },
    series: [
      {
        type: 'heatmap',
        silent: true,
        animation: false,
        data: props.rows.flatMap((row, y) =>
          row.values.flatMap((value, x) =>
            value === null ? [] : [{ value: [x, y, value], itemStyle: shade(value) }],
          ),
        ),
        itemStyle: { borderColor: token('panel'), borderWidth: 1 },
      },
    ],
    visualMap: { show: false, type: 'piecewise', pieces: [], dimension: 2, seriesIndex: [], min: 0, max: 1 },
  }
})
const { tell } = useReadout(() => props.title)
const said = computed(() => {
  const row = at.value && props.rows[at.value.row]
  return row ? `${props.columns[at.value!.column]}: ${row.label} ${signed(row.values[at.value!.column])}` : ''
})
function set(row: number, column: number) {
  const within = row >= 0 && column >= 0 && row < props.rows.length && column < props.columns.length
  at.value = within ? { row, column } : null
  const each = props.rows[row]
  const value = within && each ? signed(each.values[column]) : ''
  tell(each && value ? [{ label: `${each.label}, ${props.columns[column]}`, value, color: each.css }] : [])
}
function point(event: PointerEvent) {
  const box = (event.currentTarget as HTMLElement).getBoundingClientRect()
  const share = (where: number, from: number, size: number) => (where - from) / Math.max(size, 1)
  const x = share(event.clientX - box.left, FRAME.left, width.value - FRAME.left - FRAME.right)
  const y = share(event.clientY - box.top, FRAME.top, height.value - FRAME.top - FRAME.bottom)
  set(Math.floor(y * props.rows.length), Math.floor(x * props.columns.length))
}
function move(along: number, to: number) {
  const bound = (value: number, count: number) => Math.min(Math.max(value, 0), count - 1)
  const now = at.value ?? { row: 0, column: along < 0 ? props.columns.length : -1 }
  set(bound(now.row + to, props.rows.length), bound(now.column + along, props.columns.length))
}
const table = computed(() => props.rows.map((row) => [row.label, ...row.values]))
</script>

<template>
  <ChartFigure
    ref="figure"
    :style="{ flex: `0 0 ${rows.length * 15 + 46}px` }"
    :title="title"
    :said="said"
    :head="['contender', ...columns]"
    :rows="table"
    :svg="svg"
    @move="move"
    @point="point"
    @leave="set(-1, -1)"
  />
</template>
