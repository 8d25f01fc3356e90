<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import { copyRows, copySvg } from './copy'
import { FRAME, ticks, tickText } from './scale'

/** Caption, horizontal grid and copying: what every chart that is not on the time axis has. */
const props = defineProps<{
  title: string
  note?: string
  description?: string
  /** Lowest and highest value of the vertical axis. */
  range: [number, number]
  head: string[]
  /** What lines and clouds are called, in their colours, on a line of its own. */
  labels?: { text: string; color: string }[]
  rows: () => (readonly (string | number | null)[])[]
}>()
const size = defineModel<{ width: number; height: number }>('size', { required: true })
const host = ref<HTMLElement>()
const picture = ref<SVGSVGElement>()
const { width, height } = useElementSize(host)
watch([width, height], () => (size.value = { width: width.value, height: height.value }))

const bottom = computed(() => Math.max(height.value - FRAME.bottom, FRAME.top + 10))
const y = (value: number) =>
  bottom.value -
  ((value - props.range[0]) / (props.range[1] - props.range[0] || 1)) * (bottom.value - FRAME.top)
const marks = computed(() =>
  ticks(
    props.range[0],
    props.range[1],
    Math.min(Math.max(Math.floor((bottom.value - FRAME.top) / 26), 1), 8),
  ),
)
const apart = computed(() =>
  marks.value.length > 1 ? (marks.value[1] as number) - (marks.value[0] as number) : 1,
)
</script>

<template>
  <figure>
    <figcaption>
      <span class="title">{{ title }}</span>
      <span class="note">{{ note }}</span>
      <span class="copies">
        <button title="Copy the chart as SVG" aria-label="Copy the chart as SVG" @click="copySvg(picture)">
          SVG
        </button>
        <button
          title="Copy the values as CSV"
          aria-label="Copy the values as CSV"
          @click="copyRows(head, rows())"
        >
          CSV
        </button>
      </span>
    </figcaption>
    <p v-if="labels?.length" class="labels">
      <span v-for="each in labels" :key="each.text" :style="{ color: each.color }">{{ each.text }}</span>
    </p>
    <div ref="host" class="host">
      <svg ref="picture" :width="width" :height="height" role="img" :aria-label="description ?? title">
        <g v-for="mark in marks" :key="mark">
          <line class="grid" :x1="FRAME.left" :x2="width - FRAME.right" :y1="y(mark)" :y2="y(mark)" />
          <text class="number" :x="FRAME.left - 6" :y="y(mark) + 4" text-anchor="end">
            {{ tickText(mark, apart) }}
          </text>
        </g>
        <slot :bottom="bottom" :y="y" />
        <line
          v-if="range[0] <= 0 && range[1] >= 0"
          class="axis"
          :x1="FRAME.left"
          :x2="width - FRAME.right"
          :y1="y(0)"
          :y2="y(0)"
        />
      </svg>
      <slot name="over" />
    </div>
  </figure>
</template>

<style scoped>
figure {
  margin: 0;
  min-width: 0;
  min-height: 0;
  display: flex;
  flex-direction: column;
}
figcaption {
  position: relative;
  display: flex;
  gap: 10px;
  font-size: 12px;
  color: var(--ink-2);
  white-space: nowrap;
}
.title,
.note {
  overflow: hidden;
  text-overflow: ellipsis;
}
.note {
  flex: 1 1000 0;
  text-align: right;
}
.labels {
  margin: 0;
  display: flex;
  flex-wrap: wrap;
  gap: 0 10px;
  font-size: 11px;
}
.copies {
  position: absolute;
  right: 0;
  background: var(--panel);
  opacity: 0;
}
figure:hover .note {
  padding-right: 64px;
}
figure:hover .copies,
.copies:focus-within {
  opacity: 1;
}
.copies button {
  border: 0;
  background: none;
  color: var(--ink-2);
  font-size: 12px;
  padding: 0 0 0 6px;
  cursor: pointer;
}
.host {
  flex: 1;
  min-height: 50px;
  position: relative;
}
svg {
  position: absolute;
  inset: 0;
}
svg :deep(text) {
  font-size: 12px;
  fill: var(--ink-2);
}
.grid {
  stroke: var(--hairline);
}
.axis {
  stroke: var(--ink-3);
}
</style>
