<script setup lang="ts">
import InputText from 'primevue/inputtext'
import type { Shapes } from '../../api/client'
import { count, counted } from '../../state/format'
import FindingList from './FindingList.vue'
import RecipeForm from './RecipeForm.vue'
import type { useIntake } from './useIntake'

/** What was brought, as it reads now: its size, what differs, findings to settle, and how it is read. */
const props = defineProps<{ intake: ReturnType<typeof useIntake>; findings: Shapes['FindingView'][] }>()
const emit = defineEmits<{ point: [finding: Shapes['FindingView']] }>()
const { uploads, preview, effect, recipe, name } = props.intake
</script>

<template>
  <template v-if="preview">
    <h1 v-tip="uploads.map((each) => each.name).join(', ')">
      {{ uploads[0]?.name }}<template v-if="uploads.length > 1"> and {{ uploads.length - 1 }} more</template>
    </h1>
    <p class="second facts">
      {{ counted(preview.rows, 'row') }}, {{ preview.format }};
      {{ count(preview.series_count) }} series<template v-if="preview.step"> of {{ preview.step }}</template>
    </p>
    <section v-if="preview.differences" class="differences">
      <h2>Since the last delivery</h2>
      <p v-for="sentence in preview.differences" :key="sentence">{{ sentence }}</p>
      <p v-if="!preview.differences.length" class="second">Nothing differs.</p>
    </section>
    <FindingList
      :findings="findings"
      live
      :trying="effect"
      @point="emit('point', $event)"
      @choose="intake.choose"
      @try-out="intake.tryOut"
    />
    <RecipeForm :recipe="recipe" :preview="preview" :files="uploads.length" @change="intake.change" />
    <div class="entries">
      <label>Name<InputText v-model="name" class="field" /></label>
    </div>
  </template>
</template>

<style scoped>
p.facts,
.differences p {
  margin: 0;
  font-size: 12px;
}
</style>
