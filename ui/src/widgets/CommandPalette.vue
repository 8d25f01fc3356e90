<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { roomActions } from '../state/keys'
import { ROOMS, useProject } from '../state/project'
import { useView } from '../state/view'
import { toggleTheme } from '../theme/theme'

const emit = defineEmits<{ close: []; kept: [] }>()
const store = useProject()
const view = useView()
const router = useRouter()
const route = useRoute()
const search = ref('')
const at = ref(0)
const box = ref<HTMLInputElement>()
onMounted(() => box.value?.focus())

interface Command {
  text: string
  key?: string
  act: () => unknown
}
const commands = computed<Command[]>(() => [
  ...ROOMS.map((room, i) => ({
    text: `Go to ${room.title}`,
    key: String(i + 1),
    act: () =>
      store.project &&
      router.push({ name: room.name, params: { project: store.project.id }, query: route.query }),
  })),
  { text: 'Run', key: 'r', act: () => roomActions.run?.() },
  { text: 'Stop', key: 'Esc', act: () => roomActions.stop?.() },
  { text: 'Show the whole series', key: '0', act: () => view.setSpan(...view.extent) },
  { text: 'Original or flattened units', key: 'u', act: () => (view.flat = !view.flat) },
  { text: 'Day or night', act: () => toggleTheme() },
  { text: 'Inspector', act: () => (view.inspector = !view.inspector) },
  { text: 'Everything kept: rename, copy, delete, restore', key: 'k', act: () => emit('kept') },
  { text: 'All projects', act: () => router.push('/?projects=1') },
  ...(store.dataset?.series ?? [])
    .slice(0, 500)
    .map((each, index) => ({ text: `Series ${each.key}`, act: () => (view.series = index) })),
])
const found = computed(() => {
  const words = search.value.toLowerCase().split(/\s+/)
  return commands.value
    .filter((each) => words.every((word) => each.text.toLowerCase().includes(word)))
    .slice(0, 12)
})

function move(by: number) {
  at.value = (at.value + by + found.value.length) % Math.max(found.value.length, 1)
}
function run(command: Command | undefined) {
  emit('close')
  command?.act()
}
</script>

<template>
  <div class="shade" @click.self="emit('close')">
    <div class="panel" role="dialog" aria-label="Command palette">
      <input
        ref="box"
        v-model="search"
        class="field"
        placeholder="What next"
        aria-label="Command"
        @input="at = 0"
        @keydown.down.prevent="move(1)"
        @keydown.up.prevent="move(-1)"
        @keydown.enter="run(found[at])"
        @keydown.esc.stop="emit('close')"
      />
      <button v-for="(each, i) in found" :key="each.text" :class="{ here: i === at }" @click="run(each)">
        {{ each.text }}<span class="number second">{{ each.key }}</span>
      </button>
      <p v-if="!found.length" class="second">Nothing is called that.</p>
    </div>
  </div>
</template>

<style scoped>
.shade {
  position: fixed;
  inset: 0;
  z-index: 50;
  background: color-mix(in srgb, var(--ground) 55%, transparent);
}
.panel {
  width: 460px;
  margin: 90px auto;
  padding: 8px;
  border-color: var(--ink-3);
}
.field {
  width: 100%;
  margin-bottom: 4px;
}
button {
  display: flex;
  justify-content: space-between;
  width: 100%;
  padding: 4px 8px;
  border: 0;
  background: none;
  text-align: left;
}
.here,
button:hover {
  background: var(--selection);
}
</style>
