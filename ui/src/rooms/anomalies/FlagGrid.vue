<script setup lang="ts">
import { computed, ref } from 'vue'
import { attempt, client, type Shapes, unwrap } from '../../api/client'
import { fixed } from '../../state/format'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import DataGrid from '../../widgets/DataGrid.vue'
import type { GridColumn } from '../../widgets/grid'

/** Flags, the highest score first: gone to, confirmed or dismissed. */
const props = defineProps<{ flags: Shapes['FlagView'][]; knownUntil: number; empty: string }>()
const emit = defineEmits<{ judged: [flag: Shapes['FlagView']] }>()
const store = useProject()
const view = useView()
const ordered = computed(() => [...props.flags].sort((a, b) => b.score - a.score))
const selected = ref<number | null>(null)
const COLUMNS: GridColumn<Shapes['FlagView']>[] = [
  {
    name: 'time',
    title: 'time',
    value: (flag) => flag.time,
    text: (flag) => store.axis?.input(flag.time) ?? '',
    words: true,
    className: () => 'number',
  },
  { name: 'kind', title: 'kind', value: (flag) => flag.kind, words: true },
  { name: 'steps', title: 'steps', value: (flag) => flag.stop - flag.start },
  { name: 'score', title: 'score', value: (flag) => flag.score, text: (flag) => fixed(flag.score, 2) },
  { name: 'verdict', title: 'verdict', value: (flag) => flag.verdict, words: true },
]
async function judge(flag: Shapes['FlagView'], verdict: 'open' | 'confirmed' | 'dismissed') {
  const params = { path: { flag_id: flag.id } }
  const next = flag.verdict === verdict ? 'open' : verdict
  const answer = await attempt(() =>
    unwrap(client.PATCH('/api/v1/flags/{flag_id}', { params, body: { verdict: next } })),
  )
  if (answer) emit('judged', answer)
}
function go(flag: Shapes['FlagView']) {
  selected.value = flag.id
  const step = (store.axis?.grid.seconds ?? 86400) * 60
  view.setSpan(flag.time - step * 2, flag.time + step * 2)
}
</script>

<template>
  <DataGrid
    label="Flags"
    :rows="ordered"
    :columns="COLUMNS"
    :key-of="(flag) => flag.id"
    :selected="selected"
    :row-class="(flag) => (flag.time > knownUntil ? 'later' : '')"
    :empty="empty"
    @select="go"
  >
    <template #cell-verdict="{ row }">
      <button
        class="button quiet"
        :aria-pressed="row.verdict === 'confirmed'"
        @click.stop="judge(row, 'confirmed')"
      >
        {{ row.verdict === 'confirmed' ? '◆ confirmed' : 'confirm' }}
      </button>
      <button
        class="button quiet"
        :aria-pressed="row.verdict === 'dismissed'"
        @click.stop="judge(row, 'dismissed')"
      >
        {{ row.verdict === 'dismissed' ? '⟍ dismissed' : 'dismiss' }}
      </button>
    </template>
  </DataGrid>
</template>

<style scoped>
:deep(.later) {
  color: var(--ink-2);
  font-style: italic;
}
</style>
