<script setup lang="ts">
import { computed, ref } from 'vue'
import { useProject, type Choices } from '../../state/project'

/** The chain as boxes in order: select, move, remove, add. */
type Stage = NonNullable<Choices['chain']>[number]
const props = defineProps<{ chain: Stage[]; selected: number }>()
const emit = defineEmits<{ select: [index: number]; change: [chain: Stage[]] }>()
const store = useProject()
const adding = ref(false)
const kinds = computed(() =>
  Object.entries(store.catalogue?.stages ?? {}).map(([kind, schema]) => ({
    kind,
    title: String((schema as Record<string, unknown>).title),
  })),
)
const titleOf = (stage: Stage) => {
  const title = kinds.value.find((each) => each.kind === stage.kind)?.title ?? stage.kind
  const period = 'period' in stage ? String(stage.period).replaceAll('_', ' ') : ''
  return period ? `${title}, ${period}` : title
}

function add(kind: string) {
  adding.value = false
  const season = Math.round(store.axis?.grid.seasons[0] ?? 12)
  const hourly = Boolean(store.axis?.grid.seconds)
  const period =
    kind === 'seasonal_difference'
      ? { period: season }
      : kind === 'period_means'
        ? { period: hourly ? 'hour_of_week' : season }
        : {}
  emit('change', [...props.chain, { kind, ...period } as Stage])
  emit('select', props.chain.length)
}
function move(index: number, by: number) {
  const next = [...props.chain]
  const [stage] = next.splice(index, 1)
  if (stage) next.splice(Math.min(Math.max(index + by, 0), next.length), 0, stage)
  emit('change', next)
  emit('select', Math.min(Math.max(index + by, 0), next.length - 1))
}
function remove(index: number) {
  emit(
    'change',
    props.chain.filter((_, i) => i !== index),
  )
}
</script>

<template>
  <div class="bar panel" role="list" aria-label="Chain">
    <span class="end">observed</span>
    <template v-for="(stage, i) in chain" :key="i">
      <span class="arrow" aria-hidden="true">→</span>
      <span role="listitem" class="stage" :class="{ here: i === selected }">
        <button
          class="name"
          title="Alt ← → moves it, Delete removes it"
          @click="emit('select', i)"
          @keydown.alt.left.prevent="move(i, -1)"
          @keydown.alt.right.prevent="move(i, 1)"
          @keydown.delete="remove(i)"
        >
          {{ titleOf(stage) }}
        </button>
        <template v-if="i === selected">
          <button aria-label="Move left" :disabled="i === 0" @click="move(i, -1)">‹</button>
          <button aria-label="Move right" :disabled="i === chain.length - 1" @click="move(i, 1)">›</button>
          <button aria-label="Remove" @click="remove(i)">×</button>
        </template>
      </span>
    </template>
    <span class="arrow" aria-hidden="true">→</span>
    <span class="end">flat</span>
    <span class="grow"></span>
    <span class="adder">
      <button class="button quiet" :aria-expanded="adding" @click="adding = !adding">+ stage</button>
      <span v-if="adding" class="menu panel">
        <button v-for="each in kinds" :key="each.kind" @click="add(each.kind)">{{ each.title }}</button>
      </span>
    </span>
  </div>
</template>

<style scoped>
.bar {
  display: flex;
  align-items: center;
  gap: 6px;
  padding: 4px 8px;
  flex-wrap: wrap;
}
.stage {
  display: inline-flex;
  border: 1px solid var(--ink-3);
  border-radius: 3px;
}
.end {
  padding: 2px 8px;
  color: var(--ink-2);
}
.stage button {
  border: 0;
  background: none;
  padding: 3px 6px;
  cursor: pointer;
}
.stage button:disabled {
  opacity: 0.3;
}
.here {
  background: var(--selection);
  border-color: var(--ink);
  font-weight: 500;
}
.arrow {
  color: var(--ink-3);
}
.grow {
  flex: 1;
}
.adder {
  position: relative;
}
.menu {
  position: absolute;
  z-index: 20;
  right: 0;
  top: 30px;
  width: 190px;
  border-color: var(--ink-3);
  padding: 4px;
}
.menu button {
  display: block;
  width: 100%;
  border: 0;
  background: none;
  text-align: left;
  padding: 4px 8px;
  cursor: pointer;
}
.menu button:hover {
  background: var(--selection);
}
</style>
