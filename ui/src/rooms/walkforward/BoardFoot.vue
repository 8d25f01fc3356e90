<script setup lang="ts">
import { computed } from 'vue'
import type { Shapes } from '../../api/client'
import { seconds } from '../../state/format'
import BoardChoices from './BoardChoices.vue'
import { missingOf } from './missing'
import type { ErrorsDrawn } from './useGlance'
import type { BoardManner } from './useExperiment'

/** What the board comes to, how far it is, and how it is told. */
const props = defineProps<{
  experiment: Shapes['ExperimentView']
  active: boolean
  sentence: string
  used: string
  caution: string
  measure: string
  manner: BoardManner
}>()
const emit = defineEmits<{ change: [manner: BoardManner] }>()
const glance = defineModel<string>('glance', { required: true })
const errors = defineModel<ErrorsDrawn>('errors', { required: true })
const missing = computed(() => missingOf(props.experiment.failures ?? []))
</script>

<template>
  <div class="foot">
    <p class="sentence">
      {{ sentence }}
      <template v-if="active">
        {{ experiment.done + experiment.failed }} of {{ experiment.cells }} cells done{{
          experiment.seconds_left ? `, about ${seconds(experiment.seconds_left)} left` : ''
        }}.</template
      >
      <template v-if="experiment.state === 'stopped'"> Stopped; what is done is kept.</template>
      <template v-if="used"> {{ ` ${used}` }}&nbsp;</template>
      <span v-if="caution" class="worse">{{ caution }}&nbsp;</span>
      <span v-if="missing" class="worse">{{ missing }}</span>
    </p>
    <BoardChoices
      v-if="measure"
      :horizon="experiment.gap + experiment.horizon"
      v-model:glance="glance"
      v-model:errors="errors"
      :manner="manner"
      :measure="measure"
      @change="emit('change', $event)"
    />
  </div>
</template>

<style scoped>
.foot {
  display: flex;
  flex: none;
  flex-direction: column;
  gap: 4px;
  padding: 2px 12px 6px;
}
.sentence {
  margin: 2px 0 0;
  color: var(--ink-2);
}
</style>
