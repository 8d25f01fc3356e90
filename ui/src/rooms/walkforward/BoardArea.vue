<script setup lang="ts">
import type { Shapes } from '../../api/client'
import BoardFoot from './BoardFoot.vue'
import BoardTable from './BoardTable.vue'
import GlancePart from './GlancePart.vue'
import type { BoardManner, BoardRow } from './useExperiment'
import type { ErrorsDrawn } from './useGlance'

/** The board, or its numbers from another side, with what it comes to and how it is told. */
const props = defineProps<{
  experiment: Shapes['ExperimentView']
  board: Shapes['BoardView'] | null
  rows: BoardRow[]
  deceptions: Shapes['DeceptionView'][]
  unit: string
  selected: string
  shown: Set<string>
  fold: number | null
  active: boolean
  sentence: string
  used: string
  caution: string
  manner: BoardManner
}>()
const emit = defineEmits<{ select: [name: string]; toggle: [name: string]; change: [manner: BoardManner] }>()
const glance = defineModel<string>('glance', { required: true })
const errors = defineModel<ErrorsDrawn>('errors', { required: true })
</script>

<template>
  <component
    :is="glance === 'board' ? BoardTable : GlancePart"
    v-bind="
      glance === 'board'
        ? {
            rows: props.rows,
            metrics: board?.metrics ?? [],
            notes: board?.notes ?? [],
            deceptions: props.deceptions,
            ranks: board?.ranks ?? null,
            resampled: board?.resampled ?? null,
            baseline: experiment.baseline,
            folds: experiment.folds.length,
            unit: props.unit,
            selected: props.selected,
            shown: props.shown,
            contenders: experiment.contenders,
          }
        : {
            glance,
            experiment: props.experiment,
            rows: props.rows,
            shown: props.shown,
            selected: props.selected,
            manner: props.manner,
            fold: props.fold,
          }
    "
    @select="emit('select', $event)"
    @toggle="emit('toggle', $event)"
  >
    <BoardFoot
      v-model:glance="glance"
      v-model:errors="errors"
      :experiment="experiment"
      :active="active"
      :sentence="sentence"
      :used="used"
      :caution="caution"
      :measure="board?.skill_metric ?? ''"
      :manner="manner"
      @change="emit('change', $event)"
    />
  </component>
</template>
