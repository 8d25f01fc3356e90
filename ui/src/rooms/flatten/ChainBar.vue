<script setup lang="ts">
import Popover from 'primevue/popover'
import { computed, ref } from 'vue'
import { useProject } from '../../state/project'
import ChainMenu from './ChainMenu.vue'
import type { Stage } from './useFlatten'

/** The chain as boxes in order: select, move, switch off, repeat, remove, add; or take another chain. */
const props = defineProps<{ chain: Stage[]; selected: number }>()
const emit = defineEmits<{ select: [index: number]; change: [chain: Stage[], select: number] }>()
const store = useProject()
const stageMenu = ref<InstanceType<typeof Popover>>()
const chainMenu = ref<InstanceType<typeof Popover>>()

const GROUPS = ['transform', 'trend', 'season', 'difference', 'scale']
const kinds = computed(() =>
  Object.entries(store.catalogue?.stages ?? {}).map(([kind, schema]) => {
    const facts = schema as Record<string, unknown>
    return {
      kind,
      title: String(facts.title),
      group: String(facts.group),
      help: String(facts.description ?? '').split('\n')[0],
    }
  }),
)
const titleOf = (stage: Stage) => {
  const title = kinds.value.find((each) => each.kind === stage.kind)?.title ?? stage.kind
  const settings = stage as Record<string, unknown>
  const said = [settings.period, settings.shape, settings.each].filter((each) => each != null)
  if (settings.method && settings.method !== 'least_squares') said.push(settings.method)
  if (Array.isArray(settings.periods) && settings.periods.length) said.push(settings.periods.join(' + '))
  return [title, ...said.map((each) => String(each).replaceAll('_', ' '))].join(', ')
}

function add(kind: string) {
  stageMenu.value?.hide()
  const season = Math.round(store.axis?.grid.seasons[0] ?? 12)
  const hourly = Boolean(store.axis?.grid.seconds)
  const period =
    kind === 'seasonal_difference'
      ? { period: season }
      : kind === 'period_means'
        ? { period: hourly ? 'hour_of_week' : season }
        : {}
  emit('change', [...props.chain, { kind, ...period } as Stage], props.chain.length)
}
function move(index: number, by: number) {
  const next = [...props.chain]
  const [stage] = next.splice(index, 1)
  const to = Math.min(Math.max(index + by, 0), next.length)
  if (stage) next.splice(to, 0, stage)
  emit('change', next, to)
}
function remove(index: number) {
  emit(
    'change',
    props.chain.filter((_, i) => i !== index),
    index - 1,
  )
}
function repeat(index: number) {
  const next = [...props.chain]
  next.splice(index + 1, 0, JSON.parse(JSON.stringify(next[index])) as Stage)
  emit('change', next, index + 1)
}
function turn(index: number) {
  const next = props.chain.map((stage, i) => (i === index ? ({ ...stage, off: !stage.off } as Stage) : stage))
  emit('change', next, index)
}
</script>

<template>
  <div class="bar panel">
    <span class="end">observed</span>
    <div class="stages" role="list" aria-label="Chain">
      <template v-for="(stage, i) in chain" :key="i">
        <span class="arrow" aria-hidden="true">→</span>
        <span role="listitem" class="stage" :class="{ here: i === selected, off: stage.off }">
          <button
            class="name"
            v-tip="'Alt ← → moves it, O switches it off, D repeats it, Delete removes it'"
            @click="emit('select', i)"
            @keydown.alt.left.prevent="move(i, -1)"
            @keydown.alt.right.prevent="move(i, 1)"
            @keydown.o.exact="turn(i)"
            @keydown.d.exact="repeat(i)"
            @keydown.delete="remove(i)"
          >
            {{ titleOf(stage) }}
          </button>
          <template v-if="i === selected">
            <button v-tip="'Move left'" aria-label="Move left" :disabled="i === 0" @click="move(i, -1)">
              ‹
            </button>
            <button
              v-tip="'Move right'"
              aria-label="Move right"
              :disabled="i === chain.length - 1"
              @click="move(i, 1)"
            >
              ›
            </button>
            <button :aria-pressed="stage.off" v-tip="'Switch off or on'" @click="turn(i)">
              {{ stage.off ? 'on' : 'off' }}
            </button>
            <button v-tip="'Repeat it'" aria-label="Repeat" @click="repeat(i)">+</button>
            <button v-tip="'Remove it'" aria-label="Remove" @click="remove(i)">×</button>
          </template>
        </span>
      </template>
    </div>
    <span class="arrow" aria-hidden="true">→</span>
    <span class="end">flat</span>
    <span class="grow"></span>
    <button class="button quiet" aria-haspopup="dialog" @click="stageMenu?.toggle($event)">+ stage</button>
    <button class="button quiet" aria-haspopup="dialog" @click="chainMenu?.toggle($event)">Chains</button>
    <Popover ref="stageMenu" aria-label="Stages">
      <div class="menu">
        <section v-for="group in GROUPS" :key="group">
          <h3>{{ group }}</h3>
          <button
            v-for="each in kinds.filter((one) => one.group === group)"
            :key="each.kind"
            v-tip="each.help"
            @click="add(each.kind)"
          >
            {{ each.title }}
          </button>
        </section>
      </div>
    </Popover>
    <Popover ref="chainMenu" aria-label="Chains">
      <ChainMenu class="menu" :chain="chain" @take="(chainMenu?.hide(), emit('change', $event, 0))" />
    </Popover>
  </div>
</template>

<style scoped>
.bar {
  display: flex;
  align-items: center;
  gap: 6px;
  padding: 4px 8px;
  position: relative;
}
.stages {
  display: flex;
  align-items: center;
  gap: 6px;
  flex-wrap: wrap;
}
.stage {
  display: inline-flex;
  border: 1px solid var(--ink-3);
  border-radius: 3px;
}
.off {
  border-style: dashed;
}
.off .name {
  color: var(--ink-2);
  text-decoration: line-through;
}
.end {
  padding: 2px 6px;
  color: var(--ink-2);
}
.stage button {
  border: 0;
  background: none;
  padding: 3px 5px;
  cursor: pointer;
  white-space: nowrap;
}
.stage button:disabled {
  opacity: 0.3;
}
.here {
  background: var(--selection);
  border-color: var(--ink);
}
.here .name {
  font-weight: 500;
}
.arrow {
  color: var(--ink-3);
}
.grow {
  flex: 1;
}
.menu {
  display: flex;
  gap: 14px;
}
.menu section {
  display: flex;
  flex-direction: column;
  min-width: 120px;
}
.menu h3 {
  color: var(--ink-2);
  font-size: 12px;
  font-weight: 400;
  padding: 0 6px 2px;
}
.menu section button {
  border: 0;
  background: none;
  text-align: left;
  padding: 3px 6px;
  cursor: pointer;
  white-space: nowrap;
}
.menu section button:hover,
.menu section button:focus-visible {
  background: var(--selection);
}
</style>
