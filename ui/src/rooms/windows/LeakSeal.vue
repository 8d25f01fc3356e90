<script setup lang="ts">
import { computed, onBeforeUnmount, ref, watch } from 'vue'
import { attempt, client, unwrap, type Shapes } from '../../api/client'
import { count } from '../../state/format'
import { roomActions } from '../../state/keys'
import { useProject, type Choices } from '../../state/project'
import type { Plan } from './planText'

/** The proof that no row reads what lies after its origin: the future replaced, everything computed again. */
const props = defineProps<{ plan: Plan; chain: NonNullable<Choices['chain']> }>()
const store = useProject()
const leak = ref<Shapes['LeakView'] | null>(null)
const checking = ref(false)
watch([() => props.plan, () => props.chain, () => store.dataset?.id], () => (leak.value = null))

async function check() {
  if (!store.dataset || checking.value) return
  checking.value = true
  const params = { path: { dataset_id: store.dataset.id } }
  const body = { plan: props.plan, chain: store.choices.chain ?? [], origins: 8, seed: 0 }
  leak.value =
    (await attempt(() =>
      unwrap(client.POST('/api/v1/datasets/{dataset_id}/leak-check', { params, body })),
    )) ?? null
  checking.value = false
}
roomActions.run = () => void check()
onBeforeUnmount(() => (roomActions.run = null))
const evidence = computed(
  () =>
    leak.value?.evidence as
      | {
          origins: number
          cells: number
          recomputations: number
          leaks: { what: string }[]
          warnings: string[]
        }
      | undefined,
)
</script>

<template>
  <div class="seal" :class="{ failed: leak && !leak.passed }">
    <template v-if="leak && evidence">
      <h2>{{ leak.passed ? 'Leak check passed' : 'Leak found' }}</h2>
      <p>
        Future replaced at <span class="number">{{ evidence.origins }}</span> origins,
        <span class="number">{{ count(evidence.cells) }}</span> cells recomputed in
        <span class="number">{{ evidence.recomputations }}</span> runs:
        {{ leak.passed ? 'none changed' : evidence.leaks.map((each) => each.what).join(', ') }}.
      </p>
      <p v-for="warning in evidence.warnings" :key="warning" class="worse">{{ warning }}</p>
    </template>
    <template v-else
      ><h2>Leak check</h2>
      <p>Replaces the future by noise, recomputes, compares every bit.</p></template
    >
    <button class="button" :disabled="checking" @click="check">
      {{ checking ? 'Checking' : leak ? 'Run again' : 'Run (r)' }}
    </button>
  </div>
</template>

<style scoped>
.seal {
  background: var(--selection);
  border-radius: 3px;
  padding: 8px 12px;
}
.seal p {
  margin: 4px 0 8px;
  color: var(--ink-2);
}
.failed {
  outline: 1px solid var(--worse);
}
</style>
