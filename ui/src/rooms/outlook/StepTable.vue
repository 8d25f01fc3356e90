<script setup lang="ts">
import { computed } from 'vue'
import type { Shapes } from '../../api/client'
import { fixed } from '../../state/format'
import { useProject } from '../../state/project'
import DataGrid from '../../widgets/DataGrid.vue'
import type { GridColumn } from '../../widgets/grid'

/** Every step ahead: what is expected, within what, what came, and the chance of passing the level. */
const props = defineProps<{
  outlook: Shapes['OutlookView']
  chance: Shapes['ChanceView'] | null
  level: number | null
  decimals: number
  picked: number
  /** Scenarios that are looked at beside it. */
  beside: { outlook: Shapes['OutlookView']; name: string }[]
}>()
const emit = defineEmits<{ pick: [step: number] }>()
const store = useProject()
interface Step {
  at: number
  time: number
}
const steps = computed<Step[]>(() => props.outlook.times.map((time, at) => ({ at, time })))
const value = (row: (number | null)[] | undefined, at: number) => fixed(row?.[at], props.decimals)
const columns = computed<GridColumn<Step>[]>(() => [
  {
    name: 'time',
    title: 'time',
    text: (step) => store.axis?.input(step.time) ?? '',
    words: true,
    className: () => 'number',
  },
  {
    name: 'mean',
    title: 'mean',
    text: (step) => value(props.outlook.mean, step.at),
    className: () => 'strong',
  },
  ...props.outlook.levels.flatMap((level, l) =>
    (['lower', 'upper'] as const).map((end) => ({
      name: `${end} ${level}`,
      title: `${fixed(level * 100, 0)} % ${end === 'lower' ? 'from' : 'to'}`,
      text: (step: Step) => value(props.outlook[end][l], step.at),
    })),
  ),
  ...props.beside.map((each) => ({
    name: `scenario ${each.outlook.id}`,
    title: each.name,
    text: (step: Step) => value(each.outlook.mean, step.at),
  })),
  ...(props.level === null
    ? []
    : [
        {
          name: 'above',
          title: `above ${fixed(props.level, props.decimals)}`,
          help: 'Share of the joint paths that lie above the level at that step.',
          text: (step: Step) =>
            props.chance ? `${fixed((props.chance.each[step.at] ?? 0) * 100, 0)} %` : '',
        },
      ]),
  ...(props.outlook.truth.some((each) => each !== null)
    ? [{ name: 'truth', title: 'came', text: (step: Step) => value(props.outlook.truth, step.at) }]
    : []),
])
</script>

<template>
  <DataGrid
    label="Outlook table"
    :rows="steps"
    :columns="columns"
    :key-of="(step) => step.at"
    :selected="picked"
    :sortable="false"
    @select="emit('pick', $event.at)"
  />
</template>

<style scoped>
:deep(.strong) {
  font-weight: 600;
}
</style>
