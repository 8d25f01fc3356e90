<script setup lang="ts">
import Checkbox from 'primevue/checkbox'
import { computed } from 'vue'
import { memberNames, withMembers, type Entry } from './blends'

/** Of whom a blend is made: any entrants but blends. */
const props = defineProps<{ entry: Entry; entries: Entry[] }>()
const emit = defineEmits<{ change: [change: Partial<Entry>] }>()
const chosen = computed(() => memberNames(props.entry))
const offered = computed(() => {
  const names = props.entries.filter((each) => each.forecaster.kind !== 'blend').map((each) => each.name)
  return [...names, ...chosen.value.filter((each) => !names.includes(each))]
})
function toggle(name: string) {
  const next = chosen.value.includes(name)
    ? chosen.value.filter((each) => each !== name)
    : offered.value.filter((each) => each === name || chosen.value.includes(each))
  emit('change', { forecaster: withMembers(props.entry, next) })
}
</script>

<template>
  <fieldset>
    <legend class="second">Members</legend>
    <label v-for="name in offered" :key="name">
      <Checkbox binary :model-value="chosen.includes(name)" @update:model-value="toggle(name)" />
      {{ name }}
    </label>
    <p v-if="chosen.length < 2" class="worse" role="alert">A blend is of two at least.</p>
  </fieldset>
</template>

<style scoped>
fieldset {
  border: 0;
  margin: 0;
  padding: 0;
  display: grid;
  gap: 4px;
}
label {
  display: flex;
  gap: 8px;
  align-items: center;
}
p {
  margin: 0;
}
</style>
