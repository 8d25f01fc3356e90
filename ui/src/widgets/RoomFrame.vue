<script setup lang="ts">
import Splitter from 'primevue/splitter'
import SplitterPanel from 'primevue/splitterpanel'
import { computed } from 'vue'
import { useRoute } from 'vue-router'
import StripChart from '../charts/StripChart.vue'
import type { Pennant } from '../charts/lane'
import { ROOMS, useProject } from '../state/project'
import { useView } from '../state/view'
import EmptyRoom from './EmptyRoom.vue'

/** The frame all rooms share: Strip on top, lanes, inspector; or what is missing. */
const props = defineProps<{
  strip?: boolean
  origins?: number[]
  pennants?: Pennant[]
  rows?: number[]
  needsData?: boolean
}>()
const store = useProject()
const view = useView()
const route = useRoute()
const lacking = computed(() => props.needsData && !store.dataset)
const title = computed(() => ROOMS.find((each) => each.name === route.name)?.title ?? '')
const outdated = computed(() => {
  const room = store.project?.rooms[String(route.name)]
  return room?.state === 'outdated' ? room.reason : ''
})
</script>

<template>
  <EmptyRoom
    v-if="lacking"
    :title="title"
    text="There is no data in this project yet."
    action="Bring data in"
    to="intake"
  />
  <div v-else class="room" :class="{ wide: !view.inspector || !$slots.inspector }">
    <StripChart
      v-if="strip && store.dataset"
      class="top"
      :origins="origins"
      :pennants="pennants"
      :rows="rows"
    />
    <Splitter class="split" state-key="inspector width" state-storage="local" :gutter-size="12">
      <SplitterPanel class="lanes" :size="77" :min-size="50">
        <p v-if="outdated" class="outdated worse">
          Out of date: {{ outdated }}. What is shown stays until you run it again.
        </p>
        <slot />
      </SplitterPanel>
      <SplitterPanel v-if="$slots.inspector && view.inspector" :size="23" :min-size="16">
        <aside class="panel" aria-label="Inspector">
          <button
            class="fold"
            v-tip="'Hide the inspector'"
            aria-label="Hide the inspector"
            @click="view.inspector = false"
          >
            ›
          </button>
          <slot name="inspector" />
        </aside>
      </SplitterPanel>
    </Splitter>
    <button
      v-if="$slots.inspector && !view.inspector"
      class="unfold"
      aria-label="Show the inspector"
      @click="view.inspector = true"
    >
      ‹
    </button>
  </div>
</template>

<style scoped>
.room {
  position: relative;
  height: 100%;
  display: flex;
  flex-direction: column;
  gap: 4px;
  padding: 12px 16px 12px;
}
.split {
  flex: 1;
  min-height: 0;
}
.wide .lanes {
  flex-basis: 100% !important;
}
.lanes {
  display: flex;
  flex-direction: column;
  gap: 6px;
  min-width: 0;
  min-height: 0;
}
aside {
  position: relative;
  width: 100%;
  height: 100%;
  padding: 12px 16px;
  overflow: auto;
  display: flex;
  flex-direction: column;
  gap: 12px;
}
.fold,
.unfold {
  position: absolute;
  border: 0;
  background: none;
  cursor: pointer;
  color: var(--ink-2);
}
.fold {
  top: 8px;
  right: 6px;
}
.unfold {
  right: 0;
  top: 50%;
  padding: 12px 4px;
}
.outdated {
  margin: 0;
}
</style>
