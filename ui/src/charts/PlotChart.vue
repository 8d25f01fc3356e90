<script setup lang="ts">
import { computed, ref } from 'vue'
import ChartFigure from './ChartFigure.vue'
import { robustRange, type Plot, type PlotSeries } from './plot'
import { layoutOf, place, plotOption } from './plotOption'
import { usePlotCursor } from './usePlotCursor'
import { useEchart } from './useEchart'

/** Lines, points, bars and spans on numbers or names: the one chart for what does not lie on the time axis. */
const props = defineProps<{
  title: string
  series: PlotSeries[]
  note?: string
  xLabel?: string
  yLabel?: string
  names?: string[]
  logX?: boolean
  fromZero?: boolean
  marks?: { x: number; label: string }[]
  /** The point that stands out, by its place in its series. */
  picked?: number | null
  /** Lines are called in their colours above the plot. */
  labelled?: boolean
}>()
const emit = defineEmits<{ pick: [at: number, label: string] }>()

const figure = ref<InstanceType<typeof ChartFigure>>()
const host = computed(() => figure.value?.host)
const plot = computed<Plot>(() => ({
  series: props.series,
  xLabel: props.xLabel,
  names: props.names,
  logX: props.logX,
  fromZero: props.fromZero,
  marks: props.marks,
}))
/** Whether one extreme value flattens the rest, and whether the axis leaves it out. */
const values = computed(() => props.series.flatMap((each) => [...each.y, ...(each.to ?? [])]))
const robust = ref(false)
const flattened = computed(() => {
  const [low, high] = robustRange(values.value)
  return values.value.some((v) => v !== null && (v < low || v > high)) ? ([low, high] as const) : null
})
const within = computed(() =>
  robust.value && flattened.value ? ([...flattened.value] as [number, number]) : null,
)
const layout = computed(() => layoutOf(plot.value, width.value, height.value, within.value))
const { width, height, svg } = useEchart(host, () =>
  props.series.length ? plotOption(plot.value, layout.value, props.picked ?? null) : null,
)
const { at, said, move, point, leave } = usePlotCursor(plot, layout, () => props.title)
const dot = computed(() => {
  const each = at.value && props.series[at.value.series]
  if (!at.value || !each) return null
  const y = each.y[at.value.place]
  if (y === null || y === undefined) return null
  const [left, top] = place(layout.value, plot.value, each.x[at.value.place] as number, y)
  return { left: `${left}px`, top: `${top}px`, borderColor: each.color }
})
function choose() {
  const each = at.value && props.series[at.value.series]
  if (at.value && each) emit('pick', at.value.place, each.label)
}

const head = computed(() => ['series', props.xLabel ?? 'x', props.yLabel ?? 'y'])
const rows = computed(() =>
  props.series.flatMap((each) =>
    each.y.map((y, i) => {
      const x = each.x[i] as number
      return [each.label, props.names?.[Math.round(x)] ?? x, y] as (string | number | null)[]
    }),
  ),
)
/** The third ink is too pale for words. */
const worded = (color: string) => (color === 'var(--ink-3)' ? 'var(--ink-2)' : color)
const caption = computed(() => [props.yLabel, layout.value.note].filter(Boolean).join(', '))
const whyRobust = 'A few extreme values flatten the rest'
</script>

<template>
  <ChartFigure
    ref="figure"
    :title="title"
    :caption="caption"
    :note="note"
    :said="said"
    :head="head"
    :rows="rows"
    :svg="svg"
    @move="move"
    @point="point"
    @leave="leave"
    @choose="choose"
  >
    <template #caption>
      <button
        v-if="flattened"
        class="link"
        :aria-pressed="robust"
        v-tip="whyRobust"
        @click="robust = !robust"
      >
        {{ robust ? 'without extremes' : 'with extremes' }}
      </button>
    </template>
    <template #labels>
      <p v-if="labelled" class="labels">
        <span v-for="each in series" :key="each.label" :style="{ color: worded(each.color) }">{{
          each.label
        }}</span>
      </p>
    </template>
    <i v-if="dot" class="dot" :style="dot"></i>
  </ChartFigure>
</template>

<style scoped>
.labels {
  margin: 0;
  display: flex;
  flex-wrap: wrap;
  gap: 0 10px;
  font-size: 12px;
}
.dot {
  position: absolute;
  z-index: 3;
  width: 9px;
  height: 9px;
  margin: -4.5px;
  border: 2px solid;
  border-radius: 50%;
  pointer-events: none;
}
</style>
