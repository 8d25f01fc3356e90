<script setup lang="ts">
import { computed } from 'vue'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import RoomFrame from '../../widgets/RoomFrame.vue'
import ColumnsPart from './ColumnsPart.vue'
import CyclesPart from './CyclesPart.vue'
import LevelPart from './LevelPart.vue'
import MemoryPart from './MemoryPart.vue'
import PanelFacts from './PanelFacts.vue'
import PanelPart from './PanelPart.vue'
import ProfileFacts from './ProfileFacts.vue'
import ShapePart from './ShapePart.vue'

/** What a series is, in five parts, and a panel in one. */
const store = useProject()
const view = useView()
const PARTS = [
  { name: 'level', title: 'Level', help: 'level and spread over time, bars by calendar slot' },
  { name: 'cycles', title: 'Cycles', help: 'days, weeks or years laid over each other' },
  { name: 'memory', title: 'Memory', help: 'correlograms and periodogram' },
  { name: 'shape', title: 'Shape', help: 'distribution, spread against level, lag plots' },
  { name: 'columns', title: 'Columns', help: 'covariates and their redundancy' },
  { name: 'panel', title: 'All series', help: 'one row per series' },
]
const part = computed(() => (PARTS.some((each) => each.name === view.part) ? view.part : 'level'))
function turn(by: number) {
  const at = PARTS.findIndex((each) => each.name === part.value)
  view.part = PARTS[(at + by + PARTS.length) % PARTS.length]?.name ?? 'level'
}
</script>

<template>
  <RoomFrame :strip="part !== 'panel'" needs-data>
    <nav class="parts" role="tablist" aria-label="Parts of the profile">
      <button
        v-for="each in PARTS"
        :key="each.name"
        role="tab"
        :aria-selected="each.name === part"
        :tabindex="each.name === part ? 0 : -1"
        :title="each.help"
        @click="view.part = each.name"
        @keydown.left.prevent="turn(-1)"
        @keydown.right.prevent="turn(1)"
      >
        {{ each.title }}
      </button>
      <span class="grow"></span>
      <span v-if="part !== 'panel'" class="second">
        {{
          view.flat
            ? 'flattened by the chain, key u: original'
            : store.choices.chain?.length
              ? 'original, key u: flattened'
              : ''
        }}
      </span>
    </nav>
    <LevelPart v-if="part === 'level'" />
    <CyclesPart v-else-if="part === 'cycles'" />
    <MemoryPart v-else-if="part === 'memory'" />
    <ShapePart v-else-if="part === 'shape'" />
    <ColumnsPart v-else-if="part === 'columns'" />
    <PanelPart v-else />
    <template #inspector>
      <PanelFacts v-if="part === 'panel'" />
      <ProfileFacts v-else />
    </template>
  </RoomFrame>
</template>

<style scoped>
.parts {
  display: flex;
  align-items: baseline;
  gap: 4px;
}
.parts button {
  border: 0;
  background: none;
  padding: 2px 8px;
  cursor: pointer;
  color: var(--ink-2);
  border-bottom: 2px solid transparent;
}
.parts button[aria-selected='true'] {
  color: var(--ink);
  font-weight: 600;
  border-color: var(--ink);
}
.grow {
  flex: 1;
}
</style>
