<script setup lang="ts">
import { ref } from 'vue'
import { attempt, client, unwrap, type Shapes } from '../../api/client'
import { count } from '../../state/format'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'

/** Versions of the data: stand on one, branch from it, see how it differs from the present one. */
const store = useProject()
const view = useView()
const compared = ref<{ id: number; found: Shapes['ComparisonView'] } | null>(null)

async function compare(other: number) {
  const here = store.dataset?.id
  if (here === undefined || compared.value?.id === other) return (compared.value = null)
  const params = { path: { dataset_id: here, other_id: other } }
  const asked = client.GET('/api/v1/datasets/{dataset_id}/compare/{other_id}', { params })
  const found = await attempt(() => unwrap(asked))
  return (compared.value = found ? { id: other, found } : null)
}
function show(change: Shapes['SeriesChangeView']) {
  const index = store.dataset?.series.findIndex((each) => each.key === change.key) ?? -1
  if (index < 0 || !store.axis) return
  view.series = index
  const [from, to] = [store.axis.time(change.first), store.axis.time(change.last)]
  const room = Math.max((to - from) * 0.3, (store.axis.grid.seconds ?? 86400) * 24)
  view.setSpan(from - room, to + room)
}
const stamp = (iso: string) =>
  new Date(iso).toLocaleString(undefined, { dateStyle: 'short', timeStyle: 'short' })
</script>

<template>
  <div class="versions panel" tabindex="0">
    <table>
      <thead>
        <tr>
          <th>version</th>
          <th class="left">what was done</th>
          <th>series</th>
          <th>points</th>
          <th>made</th>
          <th>hash</th>
          <th></th>
        </tr>
      </thead>
      <tbody>
        <template v-for="each in store.project?.datasets ?? []" :key="each.id">
          <tr :class="{ here: each.id === store.dataset?.id }">
            <td class="number">
              {{ each.version
              }}<span v-if="each.parent_id" class="second">
                ← {{ store.project?.datasets.find((one) => one.id === each.parent_id)?.version }}</span
              >
            </td>
            <td class="left">{{ each.name }}: {{ each.done }}</td>
            <td class="number">{{ count(each.series) }}</td>
            <td class="number">{{ count(each.points) }}</td>
            <td class="number">{{ stamp(each.created) }}</td>
            <td class="number" :title="each.hash">{{ each.hash.slice(0, 8) }}</td>
            <td>
              <template v-if="each.id !== store.dataset?.id">
                <button class="button" @click="attempt(() => store.choose({ dataset_id: each.id }))">
                  Stand on it
                </button>
                <button class="button" @click="compare(each.id)">Compare</button>
              </template>
              <span v-else class="second">in use</span>
            </td>
          </tr>
          <tr v-if="compared?.id === each.id">
            <td></td>
            <td colspan="6" class="left">
              <p v-for="sentence in compared.found.sentences" :key="sentence">{{ sentence }}</p>
              <p v-for="change in compared.found.series.slice(0, 50)" :key="change.key">
                <button class="link" @click="show(change)">{{ change.key }}</button>
                {{ change.change === 'values' ? `${count(change.changed)} values changed` : '' }}
                {{ change.change === 'marks' ? `${count(change.changed)} points marked otherwise` : '' }}
                {{ change.change === 'new' ? 'is new here' : change.change === 'gone' ? 'is gone here' : '' }}
              </p>
              <p v-if="!compared.found.series.length && !compared.found.sentences.length">
                The same content.
              </p>
            </td>
          </tr>
        </template>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.versions {
  flex: 1;
  overflow: auto;
}
table {
  width: 100%;
  border-collapse: collapse;
}
th {
  position: sticky;
  top: 0;
  background: var(--panel);
  font-weight: 400;
  font-size: 12px;
  color: var(--ink-2);
  text-align: right;
  padding: 8px 12px;
  border-bottom: 1px solid var(--hairline);
}
td {
  text-align: right;
  padding: 4px 12px;
  vertical-align: top;
}
.left {
  text-align: left;
}
td {
  white-space: nowrap;
}
td.left {
  white-space: normal;
}
td .button + .button {
  margin-left: 6px;
}
p {
  margin: 0 0 4px;
}
.here {
  background: var(--selection);
}
</style>
