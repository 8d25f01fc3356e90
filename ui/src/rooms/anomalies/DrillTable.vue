<script setup lang="ts">
import { computed } from 'vue'
import type { Shapes } from '../../api/client'
import { fixed, number } from '../../state/format'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import { lasting } from './flags'

/** What would have been caught, by kind and size: sizes in the unit of the data, or how long it lasts. */
const props = defineProps<{ recall: Shapes['RecallView'][] }>()
const store = useProject()
const view = useView()
interface Part {
  head: string
  sizes: number[]
  titles: string[]
  rows: { kind: string; cells: (Shapes['RecallView'] | undefined)[] }[]
}
function part(of: Shapes['RecallView'][], sized: boolean): Part {
  const sizes = [...new Set(of.map((each) => each.size))].sort((a, b) => a - b)
  const titles = sizes.map((size) => {
    const typical = of.filter((each) => each.size === size).map((each) => each.typical ?? 0)
    const middle = typical.sort((a, b) => a - b)[typical.length >> 1] ?? size
    return sized
      ? number(middle, 2)
      : lasting(size, store.dataset?.grid.step ?? '').replace(/^(\d+) .*/, '$1')
  })
  const kinds = [...new Set(of.map((each) => each.kind))]
  const unit = lasting(2, store.dataset?.grid.step ?? '').replace(/^\d+ /, '')
  return {
    head: sized ? view.unit : unit,
    sizes,
    titles,
    rows: kinds.map((kind) => ({
      kind,
      cells: sizes.map((size) => of.find((each) => each.kind === kind && each.size === size)),
    })),
  }
}
const parts = computed(() =>
  [true, false]
    .map((sized) =>
      part(
        props.recall.filter((each) => (each.typical !== null) === sized),
        sized,
      ),
    )
    .filter((each) => each.rows.length),
)
const shade = (share: number) => ({
  background: `color-mix(in srgb, var(--better) ${Math.round(8 + 72 * share)}%, var(--panel))`,
  color: share > 0.55 ? 'var(--panel)' : 'var(--ink)',
})
const hint = (cell: Shapes['RecallView']) =>
  `${cell.found} of ${cell.planted} found, ${fixed(100 * cell.low, 0)} to ${fixed(100 * cell.high, 0)} % with 95 % confidence` +
  (cell.named === null ? '' : `; ${fixed(100 * cell.named, 0)} % of them called what they are`)
</script>

<template>
  <table v-for="each in parts" :key="each.head" class="drill">
    <thead>
      <tr>
        <th scope="col" class="second">{{ each.head }}</th>
        <th v-for="(title, i) in each.titles" :key="each.sizes[i]" scope="col" class="number">{{ title }}</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="line in each.rows" :key="line.kind">
        <th scope="row">{{ line.kind }}</th>
        <td v-for="(cell, i) in line.cells" :key="i" class="number" v-tip="cell && hint(cell)">
          <span v-if="cell" :style="shade(cell.share)">{{ fixed(100 * cell.share, 0) }}</span>
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.drill {
  width: 100%;
  border-spacing: 2px;
  border-collapse: separate;
  font-size: 12px;
}
th {
  font-weight: 400;
  text-align: left;
  white-space: nowrap;
}
thead th.number {
  text-align: center;
  color: var(--ink-2);
}
td {
  padding: 0;
  min-width: 30px;
}
td span {
  display: block;
  text-align: center;
  line-height: 19px;
}
</style>
