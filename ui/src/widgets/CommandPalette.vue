<script setup lang="ts">
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import { computed, ref } from 'vue'
import { useCommands, type Command } from '../state/commands'
import { likeness } from '../state/fuzzy'

/** Everything that can be done now, found by its words. */
const emit = defineEmits<{ close: []; kept: []; work: []; keys: [] }>()
const { all, typed } = useCommands({
  kept: () => emit('kept'),
  work: () => emit('work'),
  keys: () => emit('keys'),
})
const SHOWN = 12
const search = ref('')
const at = ref(0)
const commands = computed(all)
const found = computed(() => {
  const ranked = commands.value
    .map((each, place) => ({ each, place, fit: likeness(search.value, each.text) }))
    .filter((one): one is typeof one & { fit: number } => one.fit !== null)
  if (search.value.trim()) ranked.sort((a, b) => b.fit - a.fit || a.place - b.place)
  return [...typed(search.value), ...ranked.map(({ each }) => each)].slice(0, SHOWN)
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
  <Dialog
    visible
    modal
    dismissable-mask
    position="top"
    :show-header="false"
    :pt="{ root: { 'aria-label': 'Command palette', 'aria-labelledby': undefined, class: 'palette' } }"
    @update:visible="emit('close')"
  >
    <InputText
      v-model="search"
      class="field"
      placeholder="What next"
      aria-label="Command"
      role="combobox"
      aria-expanded="true"
      aria-controls="commands"
      autofocus
      @input="at = 0"
      @keydown.down.prevent="move(1)"
      @keydown.up.prevent="move(-1)"
      @keydown.enter="run(found[at])"
      @vue:mounted="({ el }: { el: unknown }) => (el as HTMLInputElement).focus()"
    />
    <div id="commands" role="listbox" aria-label="Commands">
      <button
        v-for="(each, i) in found"
        :key="each.text"
        role="option"
        :aria-selected="i === at"
        tabindex="-1"
        :class="{ here: i === at }"
        @click="run(each)"
      >
        {{ each.text }}<span class="number second">{{ each.key }}</span>
      </button>
    </div>
    <p v-if="!found.length" class="second">Nothing is called that.</p>
  </Dialog>
</template>

<style>
.palette {
  width: 480px;
  margin-top: 84px !important;
}
.palette .p-dialog-content {
  padding: 8px;
}
</style>
<style scoped>
.field {
  width: 100%;
  margin-bottom: 4px;
}
button {
  display: flex;
  justify-content: space-between;
  gap: 12px;
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
