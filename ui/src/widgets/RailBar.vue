<script setup lang="ts">
import { useRoute } from 'vue-router'
import { ROOMS, useProject } from '../state/project'

const store = useProject()
const route = useRoute()
const words = { empty: 'empty', current: 'up to date', outdated: 'out of date' }
const stateOf = (name: string) => store.project?.rooms[name]?.state ?? 'empty'
const reasonOf = (name: string) => store.project?.rooms[name]?.reason ?? ''
</script>

<template>
  <nav aria-label="Rooms">
    <component
      :is="store.project ? 'RouterLink' : 'span'"
      v-for="(room, index) in ROOMS"
      :key="room.name"
      :to="
        store.project
          ? { name: room.name, params: { project: store.project.id }, query: route.query }
          : undefined
      "
      :class="['room', { here: route.name === room.name }]"
      :aria-current="route.name === room.name ? 'page' : undefined"
      v-tip="
        `${room.title}: ${words[stateOf(room.name)]}${reasonOf(room.name) ? ', ' + reasonOf(room.name) : ''}`
      "
    >
      <i :class="['mark', stateOf(room.name)]"
        ><span class="sr-only">{{ words[stateOf(room.name)] }}</span></i
      >
      <span class="number">{{ index + 1 }}</span>
      {{ room.title }}
    </component>
  </nav>
</template>

<style scoped>
nav {
  grid-area: rail;
  background: var(--panel);
  border-right: 1px solid var(--hairline);
  padding-top: 8px;
}
.room {
  position: relative;
  display: flex;
  flex-direction: column;
  align-items: center;
  justify-content: center;
  height: 58px;
  font-size: 12px;
  line-height: 1.15;
  text-align: center;
  color: var(--ink-2);
  text-decoration: none;
  border-left: 3px solid transparent;
}
.room .number {
  font-size: 15px;
}
.here {
  color: var(--ink);
  font-weight: 600;
  border-left-color: var(--ink);
  background: var(--ground);
}
.mark {
  position: absolute;
  top: 9px;
  right: 9px;
  width: 8px;
  height: 8px;
  border: 1px solid var(--ink-2);
  border-radius: 50%;
}
.current {
  background: var(--ink-2);
}
.outdated {
  background: linear-gradient(90deg, var(--worse) 50%, transparent 50%);
  border-color: var(--worse);
}
</style>
