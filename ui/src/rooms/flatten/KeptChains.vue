<script setup lang="ts">
import { computed, ref } from 'vue'
import { attempt, client, download, ProblemError, type Shapes, unwrap } from '../../api/client'
import { useAnswer } from '../../state/answers'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import type { Stage } from './useFlatten'

/** Fitted chains kept with this version of the dataset: keep, take away, bring, use. */
const props = defineProps<{ chain: Stage[] }>()
const store = useProject()
const view = useView()
const file = ref<HTMLInputElement>()

const { data: found, again: load } = useAnswer(
  'fitted chains',
  () => store.dataset && { params: { path: { dataset_id: store.dataset.id } } },
  (asked, signal): Promise<{ fitted: Shapes['FittedBrief'][] }> =>
    unwrap(client.GET('/api/v1/datasets/{dataset_id}/fitted-chains', { ...asked, signal })),
)
const kept = computed(() => found.value?.fitted ?? [])

async function keep() {
  if (!store.dataset) return
  const params = { path: { dataset_id: store.dataset.id } }
  const body = { name: '', chain: props.chain, until: view.cutoff }
  await attempt(() => unwrap(client.POST('/api/v1/datasets/{dataset_id}/fitted-chains', { params, body })))
  load()
}
async function bring(event: Event) {
  const chosen = (event.target as HTMLInputElement).files?.[0]
  if (!chosen || !store.dataset) return
  const params = { path: { dataset_id: store.dataset.id } }
  await attempt(async () => {
    let document: Record<string, unknown>
    try {
      document = JSON.parse(await chosen.text()) as Record<string, unknown>
    } catch {
      throw new ProblemError(`${chosen.name} is not JSON; nothing was changed.`, 422)
    }
    const body = { document }
    await unwrap(client.POST('/api/v1/datasets/{dataset_id}/fitted-chains/import', { params, body }))
  })
  if (file.value) file.value.value = ''
  load()
}
const asOf = (until: number) => store.axis?.text(store.axis.time(until - 1)) ?? ''
</script>

<template>
  <h2>Kept with this dataset</h2>
  <div v-for="each in kept" :key="each.id" class="kept">
    <span>{{ each.name }}</span>
    <span class="second">as of {{ asOf(each.until) }}</span>
    <span>
      <button
        class="link"
        @click="attempt(() => download(`/api/v1/fitted-chains/${each.id}.json`, 'fitted.json'))"
      >
        JSON
      </button>
      ·
      <button
        class="link"
        @click="
          attempt(() =>
            download(`/api/v1/datasets/${store.dataset?.id}/fitted-chains/${each.id}/flat.csv`, 'flat.csv'),
          )
        "
      >
        flat values as CSV
      </button>
      ·
      <button class="link" @click="view.setCutoff(each.until, true)">go to its cutoff</button>
    </span>
  </div>
  <div class="row">
    <button class="button" :disabled="!chain.length" @click="keep">Keep as fitted</button>
    <button class="button quiet" @click="file?.click()">Bring one</button>
    <input
      ref="file"
      class="sr-only"
      type="file"
      accept=".json"
      aria-label="Fitted chain"
      tabindex="-1"
      @change="bring"
    />
  </div>
</template>

<style scoped>
.kept {
  display: flex;
  flex-direction: column;
  border-bottom: 1px solid var(--hairline);
  padding-bottom: 4px;
}
.row {
  display: flex;
  gap: 8px;
}
</style>
