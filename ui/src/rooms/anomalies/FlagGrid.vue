<script setup lang="ts">
import { computed } from 'vue'
import ChoiceField from '../../widgets/ChoiceField.vue'
import { count, fixed, number } from '../../state/format'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import DataGrid from '../../widgets/DataGrid.vue'
import type { GridColumn } from '../../widgets/grid'
import { keyOf, lasting, what, type FlagView } from './flags'
import FlagMark from './FlagMark.vue'
import type { Shown, Triage } from './useTriage'

/** Flags, the newest first: since when, what, how long, how sure, how rare; narrowed down by what was said of them. */
const props = defineProps<{ triage: Triage; flags: FlagView[]; explained: number; empty: string }>()
const { show, kind, kinds, here, picked, group, listed, go } = props.triage
const store = useProject()
const view = useView()
const step = computed(() => store.dataset?.grid.step ?? '')
const marked = computed(() => new Set(group.value.map(keyOf)))
const tally = (word: string) => props.flags.filter((flag) => flag.verdict === word).length
const shown = computed<{ value: Shown; label: string }[]>(() => [
  { value: 'all', label: `all ${count(props.flags.length)}` },
  { value: 'open', label: `open ${count(tally('open'))}` },
  { value: 'right', label: `right ${count(tally('right'))}` },
  { value: 'wrong', label: `wrong ${count(tally('wrong'))}` },
  { value: 'explained', label: `explained ${count(props.explained)}` },
])
const columns = computed<GridColumn<FlagView>[]>(() => [
  { name: 'mark', title: '', width: 28, words: true },
  {
    name: 'since',
    title: 'since',
    value: (flag) => flag.time,
    text: (flag) => store.axis?.input(flag.time) ?? '',
    words: true,
    className: () => 'number',
    width: 156,
  },
  { name: 'series', title: 'series', value: (flag) => flag.key, words: true, width: 110 },
  { name: 'kind', title: 'kind', value: (flag) => flag.named ?? flag.kind, words: true, width: 92 },
  {
    name: 'lasts',
    title: 'lasts',
    value: (flag) => flag.stop - flag.start,
    text: (flag) => lasting(flag.stop - flag.start, step.value),
    width: 64,
  },
  {
    name: 'evidence',
    title: 'evidence',
    value: (flag) => flag.score,
    text: (flag) => fixed(flag.score, 1),
    help: 'How far off, in spreads; of a block or step, as a single point that is as unlikely.',
    width: 76,
  },
  {
    name: 'once',
    title: 'once in',
    value: (flag) => flag.once_in ?? Infinity,
    text: (flag) => (flag.once_in === null ? 'never' : number(flag.once_in, 2)),
    help: 'In how many points chance does this once; never: an exact test told it.',
    width: 92,
  },
  { name: 'what', title: 'what', value: what, words: true },
])
</script>

<template>
  <section class="list panel">
    <header>
      <span class="choices" role="group" aria-label="Which flags">
        <button
          v-for="each in shown"
          :key="each.value"
          class="link"
          :aria-pressed="show === each.value"
          @click="show = each.value"
        >
          {{ each.label }}
        </button>
      </span>
      <ChoiceField
        :model-value="kind"
        label="Kind"
        :options="[{ value: '', label: 'any kind' }, ...kinds]"
        @update:model-value="kind = $event"
      />
      <label class="second"><input v-model="here" type="checkbox" /> only {{ view.key }}</label>
      <span class="grow"></span>
      <span v-if="group.length" class="second" role="status"
        >{{ count(group.length) }} like this: c, d or l says it of all</span
      >
    </header>
    <DataGrid
      label="Flags"
      :rows="listed"
      :columns="columns"
      :key-of="keyOf"
      :selected="picked"
      :row-class="
        (flag) => [flag.verdict === 'wrong' ? 'wrong' : '', marked.has(keyOf(flag)) ? 'alike' : ''].join(' ')
      "
      :empty="empty"
      :row-height="24"
      @select="go"
    >
      <template #cell-mark="{ row }"><FlagMark :verdict="row.verdict" :kind="row.kind" /></template>
    </DataGrid>
  </section>
</template>

<style scoped>
.list {
  display: flex;
  flex-direction: column;
  min-height: 0;
}
header {
  display: flex;
  align-items: center;
  gap: 12px;
  padding: 3px 8px;
  font-size: 12px;
  border-bottom: 1px solid var(--hairline);
}
.choices {
  display: flex;
  gap: 10px;
}
.choices [aria-pressed='true'] {
  font-weight: 600;
  color: var(--ink);
}
.grow {
  flex: 1;
}
header :deep(.p-select) {
  height: 22px;
  min-width: 110px;
}
label {
  display: flex;
  align-items: center;
  gap: 4px;
}
:deep(.wrong) {
  color: var(--ink-2);
  text-decoration: line-through;
  text-decoration-thickness: 0.5px;
}
:deep(.alike td) {
  background: var(--selection);
}
:deep(td.what) {
  max-width: 0;
  width: 100%;
}
</style>
