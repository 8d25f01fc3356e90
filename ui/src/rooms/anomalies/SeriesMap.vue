<script setup lang="ts">
import { useResizeObserver } from '@vueuse/core'
import { computed, ref, watchEffect } from 'vue'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import { token } from '../../theme/theme'
import { keyOf, type FlagView } from './flags'

/** Flags of all series over the whole time: a column of marks is everything at once, a single one this series alone. */
const props = defineProps<{ flags: FlagView[]; picked: string | null }>()
const emit = defineEmits<{ pick: [flag: FlagView] }>()
const store = useProject()
const view = useView()
const NAMES = 108
const host = ref<HTMLElement>()
const canvas = ref<HTMLCanvasElement>()
const size = ref({ width: 0, height: 0 })
useResizeObserver(host, ([entry]) => {
  const { width = 0, height = 0 } = entry?.contentRect ?? {}
  size.value = { width, height }
})
const series = computed(() => store.dataset?.series ?? [])
const row = computed(() => Math.max(3, Math.min(size.value.height / Math.max(series.value.length, 1), 18)))
const tall = computed(() => row.value * series.value.length)
const x = (time: number) => {
  const [first, last] = view.extent
  return NAMES + ((size.value.width - NAMES - 8) * (time - first)) / Math.max(last - first, 1)
}
const said = computed(
  () =>
    `${props.flags.length} flags in ${new Set(props.flags.map((flag) => flag.key)).size} series over time`,
)

watchEffect(
  () => {
    const ctx = canvas.value?.getContext('2d')
    if (!ctx || !canvas.value || !size.value.width) return
    const ratio = devicePixelRatio
    canvas.value.width = size.value.width * ratio
    canvas.value.height = tall.value * ratio
    ctx.scale(ratio, ratio)
    ctx.font = '11px "Hanken Grotesk Variable"'
    ctx.textBaseline = 'middle'
    const high = row.value
    series.value.forEach((each, i) => {
      const middle = high * (i + 0.5)
      ctx.fillStyle = token('hairline')
      ctx.fillRect(NAMES, Math.round(middle), size.value.width - NAMES - 8, high > 6 ? 1 : 0.5)
      if (high < 11) return
      ctx.fillStyle = token(i === view.series ? 'ink' : 'ink-2')
      ctx.font = `${i === view.series ? 600 : 400} 11px "Hanken Grotesk Variable"`
      ctx.fillText(each.key.length > 18 ? `${each.key.slice(0, 17)}…` : each.key, 8, middle)
    })
    const height = Math.max(high * 0.6, 2)
    for (const flag of props.flags) {
      const left = x(flag.time)
      const width = Math.max(x(flag.last) - left, 2)
      const top = high * (flag.series + 0.5) - height / 2
      const here = keyOf(flag) === props.picked
      ctx.globalAlpha = flag.verdict === 'wrong' ? 0.35 : 1
      ctx.fillStyle = token(here ? 'c3' : flag.verdict === 'right' ? 'ink' : 'panel')
      ctx.strokeStyle = token(here ? 'c3' : 'ink')
      if (flag.verdict === 'open' && high < 6) ctx.fillStyle = token('ink-2')
      ctx.fillRect(left, top, width, height)
      if (high >= 6) ctx.strokeRect(left + 0.5, top + 0.5, Math.max(width - 1, 1.5), height - 1)
    }
    ctx.globalAlpha = 1
    const cutoff = store.axis ? x(store.axis.time(view.cutoff - 1)) : -1
    if (cutoff > NAMES && cutoff < size.value.width) {
      ctx.fillStyle = token('cutoff')
      ctx.fillRect(cutoff, 0, 1.5, tall.value)
    }
  },
  { flush: 'post' },
)
/** The flag nearest to a place, in its row first. */
function pick(event: MouseEvent) {
  const at = Math.floor(event.offsetY / row.value)
  const [nearest] = props.flags
    .map((flag) => {
      const off = Math.max(x(flag.time) - event.offsetX, event.offsetX - x(flag.last), 0)
      return { flag, far: off + 3 * row.value * Math.abs(flag.series - at) }
    })
    .sort((a, b) => a.far - b.far)
  if (nearest && nearest.far < 60) emit('pick', nearest.flag)
  else if (at < series.value.length) view.series = at
}
</script>

<template>
  <section class="map panel" aria-label="All series">
    <div ref="host" class="host">
      <canvas
        ref="canvas"
        :style="{ width: `${size.width}px`, height: `${tall}px` }"
        role="img"
        :aria-label="said"
        @click="pick"
      ></canvas>
    </div>
  </section>
</template>

<style scoped>
.map {
  position: relative;
  overflow: hidden;
}
.host {
  position: absolute;
  inset: 4px 0;
  overflow: auto;
}
canvas {
  display: block;
  cursor: pointer;
}
</style>
