<script setup lang="ts">
import InputText from 'primevue/inputtext'
import { ref } from 'vue'
import { count } from '../../state/format'
import { useProject } from '../../state/project'
import ChoiceField from '../../widgets/ChoiceField.vue'

/** Above the window table: how many rows, where to go, which to show, and what facts are against. */
defineProps<{ total: number; complaint: string; targets: string[] }>()
const filterText = defineModel<string>('filterText', { required: true })
const emit = defineEmits<{ go: [time: number]; filter: []; target: [place: number] }>()
const store = useProject()
/** The target that facts of columns are against, by its place. */
const against = ref(0)
const goTime = ref('')
function goToOrigin() {
  const time = store.axis?.parse(goTime.value)
  if (time !== null && time !== undefined) emit('go', time)
}
</script>

<template>
  <div class="tools">
    <span class="second number">{{ count(total) }} rows</span>
    <label class="second"
      >go to
      <InputText
        v-model="goTime"
        class="field number when"
        placeholder="2024-03-12"
        @keydown.enter="goToOrigin"
    /></label>
    <label class="second filter"
      >only
      <InputText
        v-model="filterText"
        class="field number"
        placeholder="lag 1 >= 40; weekday sin -1..0"
        aria-label="Only rows where"
        @keydown.enter="emit('filter')"
        @blur="emit('filter')"
    /></label>
    <label v-if="targets.length > 1" class="second"
      >facts against
      <ChoiceField
        label="Target the facts are against"
        :model-value="against"
        :options="targets.map((label, value) => ({ value, label }))"
        @update:model-value="((against = $event), emit('target', $event))"
    /></label>
    <span v-if="complaint" class="told worse" role="alert">{{ complaint }}</span>
  </div>
</template>

<style scoped>
.tools {
  display: flex;
  align-items: center;
  gap: 12px;
  height: 30px;
  padding: 0 10px;
  border-bottom: 1px solid var(--hairline);
  font-size: 12px;
  white-space: nowrap;
}
.tools .field {
  height: 22px;
  font-size: 12px;
  padding: 0 6px;
}
.tools .when {
  width: 128px;
}
.filter input {
  width: 200px;
}
.told {
  overflow: hidden;
  text-overflow: ellipsis;
  min-width: 0;
}
</style>
