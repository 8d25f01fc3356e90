<script setup lang="ts">
import { computed } from 'vue'
import type { Shapes } from '../../api/client'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import { useFoldBars } from './useFoldBars'

/** A bar per fold over the whole extent, whatever the lanes are zoomed to: learned part solid, gap empty, scored part
 * ticked; a click goes there. */
const props = defineProps<{
  folds: Shapes['FoldView'][]
  sealed: Shapes['FoldView'][]
  here: number | null
}>()
const store = useProject()
const view = useView()
const { bars, at } = useFoldBars(
  () => props.folds,
  () => props.sealed,
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
@import './folds.css';
.map {
  position: relative;
  overflow: hidden;
}
.plot {
  position: absolute;
  inset: 22px 12px 8px;
}
.fold {
  cursor: pointer;
}
.fold:disabled {
  cursor: default;
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
