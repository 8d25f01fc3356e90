<script setup lang="ts">
import Tab from 'primevue/tab'
import TabList from 'primevue/tablist'
import Tabs from 'primevue/tabs'
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
</script>

<template>
  <RoomFrame :strip="part !== 'panel'" needs-data>
    <nav class="parts">
      <Tabs :value="part" select-on-focus @update:value="view.part = String($event)">
        <TabList aria-label="Parts of the profile">
          <Tab
            v-for="each in PARTS"
            :key="each.name"
            :value="each.name"
            :title="each.help"
            :pt="{ root: { 'aria-controls': null } }"
          >
            {{ each.title }}
          </Tab>
        </TabList>
      </Tabs>
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
.grow {
  flex: 1;
}
</style>
