<script setup lang="ts">
import { computed, ref } from 'vue'
import { useProject } from '../../state/project'
import { fixed } from '../../state/format'
import NumberField from '../../widgets/NumberField.vue'
import { lasting } from './flags'
import { limited, LONGEST, stretched, stroked } from './shape'

/** A fault of one's own, drawn with the pointer or with the arrow keys, to be planted with the others. */
const emit = defineEmits<{ made: [name: string, heights: number[]]; close: [] }>()
const props = defineProps<{ taken: string[] }>()
const store = useProject()
const WIDTH = 236
const HEIGHT = 84
const name = ref('')
const heights = ref<number[]>(Array.from({ length: 24 }, () => 0))
const at = ref(0)
const box = ref<SVGSVGElement>()
const wide = computed(() => WIDTH / heights.value.length)
const y = (height: number) => HEIGHT / 2 - (height * (HEIGHT - 8)) / 2
const path = computed(() =>
  heights.value
    .map((height, i) => `${i ? 'L' : 'M'}${i * wide.value} ${y(height)}H${(i + 1) * wide.value}`)
    .join(''),
)
const ready = computed(
  () => name.value.trim() && !props.taken.includes(name.value.trim()) && heights.value.some((each) => each),
)
const place = (event: PointerEvent): [number, number] => {
  const bounds = (box.value as SVGSVGElement).getBoundingClientRect()
  const point = Math.floor(((event.clientX - bounds.left) / bounds.width) * heights.value.length)
  const height = (1 - (2 * (event.clientY - bounds.top)) / bounds.height) * (HEIGHT / (HEIGHT - 8))
  return [Math.min(Math.max(point, 0), heights.value.length - 1), limited(height)]
}
let last: [number, number] | null = null
function draw(event: PointerEvent) {
  if (event.type === 'pointerdown') {
    box.value?.setPointerCapture(event.pointerId)
    last = null
  } else if (!event.buttons) return
  const now = place(event)
  heights.value = stroked(heights.value, last ?? now, now)
  last = now
  at.value = now[0]
}
function key(event: KeyboardEvent) {
  const way = { ArrowLeft: -1, ArrowRight: 1 }[event.key]
  const by = { ArrowUp: 0.1, ArrowDown: -0.1 }[event.key]
  if (!way && !by) return
  event.preventDefault()
  event.stopPropagation()
  const from = at.value
  if (way) at.value = Math.min(Math.max(from + way, 0), heights.value.length - 1)
  // with Shift, a point takes the height of the one before
  const height = way && event.shiftKey ? heights.value[from] : (heights.value[at.value] ?? 0) + (by ?? 0)
  heights.value = heights.value.map((each, i) => (i === at.value ? limited(height ?? 0) : each))
}
function resize(points: number | null) {
  if (points) heights.value = stretched(heights.value, points)
  at.value = Math.min(at.value, heights.value.length - 1)
}
const said = computed(
  () => `point ${at.value + 1} of ${heights.value.length}, ${fixed(heights.value[at.value] ?? 0, 2)}`,
)
</script>

<template>
  <form
    class="shape"
    aria-label="A fault of one's own"
    @submit.prevent="ready && emit('made', name.trim(), heights)"
  >
    <div class="line">
      <input
        v-model="name"
        class="field"
        aria-label="What it is called"
        placeholder="a leak"
        maxlength="40"
      />
      <NumberField
        :model-value="heights.length"
        :min="1"
        :max="LONGEST"
        whole
        label="Points"
        @update:model-value="resize"
      />
      <span class="second">{{ lasting(heights.length, store.dataset?.grid.step ?? '') }}</span>
    </div>
    <svg
      ref="box"
      :viewBox="`0 0 ${WIDTH} ${HEIGHT}`"
      tabindex="0"
      role="slider"
      aria-label="Its shape"
      aria-valuemin="-1"
      aria-valuemax="1"
      :aria-valuenow="heights[at]"
      :aria-valuetext="said"
      v-tip="'Drag to draw; arrow keys move and raise, with Shift the height goes along'"
      @pointerdown="draw"
      @pointermove="draw"
      @keydown="key"
    >
      <path :d="`M0 ${HEIGHT / 2}H${WIDTH}`" class="zero" />
      <rect :x="at * wide" y="0" :width="wide" :height="HEIGHT" class="here" />
      <path :d="path" class="drawn" />
    </svg>
    <div class="line">
      <button class="button" :disabled="!ready" type="submit">Plant it, too</button>
      <button class="link" type="button" @click="emit('close')">Close</button>
    </div>
  </form>
</template>

<style scoped>
.shape {
  display: grid;
  gap: 6px;
}
.line {
  display: grid;
  grid-template-columns: 1fr 52px auto;
  gap: 8px;
  align-items: center;
}
.line:last-child {
  grid-template-columns: 1fr auto;
}
.line :deep(input) {
  width: 100%;
  min-width: 0;
}
svg {
  width: 100%;
  background: var(--panel);
  border: 1px solid var(--line);
  touch-action: none;
  cursor: crosshair;
}
.zero {
  stroke: var(--ink-3);
  stroke-width: 0.5;
}
.here {
  fill: var(--cutoff);
  opacity: 0.12;
}
.drawn {
  fill: none;
  stroke: var(--c1);
  stroke-width: 1.5;
}
</style>
