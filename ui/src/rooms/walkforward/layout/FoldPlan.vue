<script setup lang="ts">
import { computed, nextTick, ref, watch } from 'vue'
import { useProject } from '../../../state/project'
import FoldHead from './FoldHead.vue'
import { useFoldBars } from '../useFoldBars'
import {
  counted,
  movable,
  moved,
  placeOf,
  sealedFrom,
  stepped,
  type Design,
  type Laid,
  type Part,
} from './foldEdits'

/** The folds over the whole extent, laid out by hand: dragged, moved with arrow keys, or said in a line. */
const props = defineProps<{ laid: Laid; sealed: number; line: string; problem: string; refused: boolean }>()
const emit = defineEmits<{ change: [design: Design]; say: [line: string]; settings: [] }>()
const store = useProject()
const row = ref(0)
const host = ref<HTMLElement>()
const opened = computed(() => props.laid.folds.length - props.sealed)
const { bars, at } = useFoldBars(
  () => props.laid.folds.slice(0, opened.value),
  () => props.laid.folds.slice(opened.value),
)
watch(
  () => props.laid.folds.length,
  (now) => (row.value = Math.min(row.value, Math.max(now - 1, 0))),
)

const NAMES: Record<Part, string> = {
  start: 'where it begins to learn', cutoff: 'cutoff', gap: 'end of the gap', end: 'end of what is scored',
} // prettier-ignore
const handles = computed(() => {
  const fold = props.laid.folds[row.value]
  if (!fold) return []
  return movable(props.laid.design).map((part) => {
    const place = placeOf(fold, part)
    const beside = part === 'gap' && fold.score_start === fold.cutoff
    const time = store.axis?.text(store.axis.time(part === 'cutoff' ? place - 1 : place)) ?? ''
    return { part, place, time, left: `calc(${at(place)}% + ${beside ? 7 : 0}px)`, name: NAMES[part] }
  })
})
const told = computed(() => {
  const [fold, axis] = [props.laid.folds[row.value], store.axis]
  if (!fold || !axis) return ''
  const gap = fold.score_start - fold.cutoff
  return [
    axis.text(axis.time(fold.cutoff - 1)),
    `learns ${axis.steps(fold.cutoff - fold.learn_start)}`,
    ...(gap ? [`gap ${axis.steps(gap)}`] : []),
    `scores ${axis.steps(fold.score_stop - fold.score_start)}`,
  ].join(', ')
})

let held: { laid: Laid; index: number; part: Part } | null = null
function take(event: PointerEvent, part: Part) {
  held = { laid: { ...props.laid }, index: row.value, part }
  ;(event.currentTarget as HTMLElement).setPointerCapture(event.pointerId)
}
function drag(event: PointerEvent) {
  const [axis, box] = [store.axis, host.value?.getBoundingClientRect()]
  if (!held || !axis || !box) return
  const share = (event.clientX - box.left) / box.width
  const [first, last] = [axis.time(0), axis.time(axis.end - 1)]
  const place = Math.min(Math.max(axis.position(first + share * (last - first)), 0), axis.end)
  emit('change', moved(held.laid, held.index, held.part, place, axis))
}
function go(to: number, part: Part) {
  row.value = Math.min(Math.max(to, 0), props.laid.folds.length - 1)
  void nextTick(() => host.value?.querySelector<HTMLElement>(`[data-part="${part}"]`)?.focus())
}
function press(event: KeyboardEvent, part: Part) {
  const axis = store.axis
  if (!axis) return
  const far = event.shiftKey ? Math.max(Math.round(axis.grid.seasons[0] ?? 1), 2) : 1
  const [laid, index] = [props.laid, row.value]
  const actions: Record<string, () => void> = {
    ArrowLeft: () => emit('change', stepped(laid, index, part, -far, axis)),
    ArrowRight: () => emit('change', stepped(laid, index, part, far, axis)),
    ArrowUp: () => go(index - 1, part),
    ArrowDown: () => go(index + 1, part),
    '+': () => emit('change', counted(laid, index, 1, axis)),
    '-': () => emit('change', counted(laid, index, -1, axis)),
    s: () => emit('change', sealedFrom(laid, index)),
  }
  const action = actions[event.key]
  if (!action) return
  event.preventDefault()
  action()
}
const count = (by: 1 | -1) => store.axis && emit('change', counted(props.laid, row.value, by, store.axis))
</script>

<template>
  <section class="plan panel" aria-label="Folds">
    <FoldHead
      :line="line"
      :wrong="Boolean(problem)"
      @count="count"
      @seal="emit('change', sealedFrom(laid, row))"
      @settings="emit('settings')"
      @say="emit('say', $event)"
    />
    <p v-if="problem" class="problem" role="alert">{{ problem }}</p>
    <div ref="host" class="plot" :class="{ refused }">
      <div
        v-for="(bar, i) in bars"
        :key="i"
        class="fold"
        :class="{ here: i === row }"
        :style="{ height: `${100 / bars.length}%` }"
        @pointerenter="held || (row = i)"
      >
        <i class="learned" :style="bar.learned"></i
        ><i :class="bar.sealed ? 'shut' : 'scored'" :style="bar.scored"></i>
        <template v-if="i === row">
          <span
            v-for="each in handles"
            :key="each.part"
            class="handle"
            :class="each.part"
            :style="{ left: each.left }"
            :data-part="each.part"
            role="slider"
            tabindex="0"
            :aria-label="`Fold ${i + 1} of ${bars.length}, ${each.name}`"
            :aria-valuenow="each.place"
            :aria-valuemin="0"
            :aria-valuemax="store.axis?.end"
            :aria-valuetext="each.time"
            v-tip="`${each.name}: ${each.time}`"
            @pointerdown.prevent="take($event, each.part)"
            @pointermove="drag"
            @pointerup="held = null"
            @keydown="press($event, each.part)"
          ></span>
        </template>
      </div>
    </div>
    <p class="second told">
      <span class="number">fold {{ row + 1 }} of {{ bars.length }}: {{ told }}</span>
      <span class="hint">drag a cutoff, a gap, an edge; arrows move what is in focus</span>
    </p>
  </section>
</template>

<style scoped>
@import '../folds.css';
.plan {
  display: flex;
  flex-direction: column;
  gap: 4px;
  padding: 8px 12px;
  min-height: 0;
}
.hint {
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
  min-width: 0;
}
.problem {
  margin: 0;
  color: var(--worse);
}
.plot {
  position: relative;
  flex: 1;
  min-height: 60px;
  overflow-y: auto;
  overflow-x: hidden;
}
.refused {
  opacity: 0.45;
}
.fold {
  min-height: 7px;
}
.handle {
  position: absolute;
  top: 50%;
  width: 9px;
  height: 15px;
  margin: -7.5px 0 0 -4.5px;
  border: 1.5px solid var(--cutoff);
  border-radius: 2px;
  background: var(--panel);
  cursor: ew-resize;
  touch-action: none;
}
.handle.gap,
.handle.start,
.handle.end {
  width: 6px;
  margin-left: -3px;
  border-color: var(--ink);
}
.handle.start {
  margin-left: 0;
}
.handle.end {
  margin-left: -6px;
}
.handle:focus-visible {
  outline: 2px solid var(--ink);
  outline-offset: 1px;
}
.told {
  margin: 0;
  display: flex;
  justify-content: space-between;
  font-size: 12px;
}
</style>
