<script setup lang="ts">
import { computed } from 'vue'
import type { Shapes } from '../../api/client'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'

/** A bar per fold over the whole extent, whatever the lanes are zoomed to: learned part solid, gap empty, scored part
 * ticked; a click goes there. */
const props = defineProps<{
  folds: Shapes['FoldView'][]
  sealed: Shapes['FoldView'][]
  here: number | null
}>()
const store = useProject()
const view = useView()
const at = (position: number) => {
  const time = store.axis?.time(position) ?? 0
  const [first, last] = view.extent
  return Math.min(Math.max(((time - first) / (last - first)) * 100, 0), 100)
}
const bars = computed(() =>
  [...props.folds, ...props.sealed].map((fold, i) => ({
    fold,
    sealed: i >= props.folds.length,
    learned: { left: `${at(fold.learn_start)}%`, width: `${at(fold.cutoff) - at(fold.learn_start)}%` },
    scored: { left: `${at(fold.score_start)}%`, width: `${at(fold.score_stop) - at(fold.score_start)}%` },
  })),
)
const cutoff = computed(() => at(view.cutoff - 1))
</script>

<template>
  <section class="map panel" aria-label="Folds">
    <div class="plot">
      <button
        v-for="(bar, i) in bars"
        :key="i"
        class="fold"
        :class="{ here: i === here }"
        :style="{ height: `${100 / bars.length}%` }"
        :disabled="bar.sealed"
        :aria-label="bar.sealed ? `Fold ${i + 1}, sealed` : `Fold ${i + 1}`"
        v-tip="`Fold ${i + 1}: known up to ${store.axis?.text(store.axis.time(bar.fold.cutoff - 1))}`"
        @click="view.setCutoff(bar.fold.cutoff, true)"
      >
        <i class="learned" :style="bar.learned"></i
        ><i :class="bar.sealed ? 'shut' : 'scored'" :style="bar.scored"></i>
      </button>
      <i v-if="cutoff > 0 && cutoff < 100" class="known" :style="{ left: cutoff + '%' }"></i>
    </div>
    <slot />
  </section>
</template>

<style scoped>
.map {
  position: relative;
  overflow: hidden;
}
.plot {
  position: absolute;
  inset: 8px 12px 8px 12px;
}
.fold {
  display: block;
  position: relative;
  width: 100%;
  border: 0;
  background: none;
  padding: 0;
  cursor: pointer;
}
.fold i {
  position: absolute;
  top: 50%;
  height: 5px;
  margin-top: -2.5px;
}
.learned {
  background: var(--ink-3);
}
.scored {
  min-width: 7px;
  background: repeating-linear-gradient(90deg, var(--ink-3) 0 3px, transparent 3px 5px);
}
.shut {
  min-width: 11px;
  outline: 1px solid var(--ink-2);
  background: repeating-linear-gradient(135deg, var(--ink-3) 0 1.5px, transparent 1.5px 4px);
}
.fold:disabled {
  cursor: default;
}
.here .learned {
  background: var(--ink);
}
.here .scored {
  min-width: 7px;
  background: repeating-linear-gradient(90deg, var(--cutoff) 0 3px, transparent 3px 5px);
}
.known {
  position: absolute;
  top: -6px;
  bottom: -6px;
  width: 1.5px;
  margin-left: -0.75px;
  background: var(--cutoff);
}
</style>
