<script setup lang="ts">
import { computed, ref } from 'vue'
import { count, fixed } from '../../state/format'
import DrillTable from './DrillTable.vue'
import ShapePad from './ShapePad.vue'
import type { Scanning } from './useScan'

/** What would have been caught of faults that are planted: to be begun, with shapes of one's own, and read. */
const props = defineProps<{ scanning: Scanning }>()
const { scan, drill } = props.scanning
const drawing = ref(false)
const own = computed<Record<string, number[]>>(() => drill.value?.shapes ?? {})
const again = (shapes: Record<string, number[]>) => props.scanning.startDrill(40, shapes)
function add(name: string, heights: number[]) {
  drawing.value = false
  void again({ ...own.value, [name]: heights })
}
const without = (name: string) =>
  again(Object.fromEntries(Object.entries(own.value).filter(([each]) => each !== name)))
</script>

<template>
  <h2>Drill: what would have been caught</h2>
  <template v-if="drill?.state === 'done'">
    <p class="second sentence">{{ count(drill.planted) }} faults planted in these series</p>
    <DrillTable :recall="drill.recall" />
  </template>
  <p v-else-if="drill?.state === 'running'" class="second sentence" role="status">
    Planting faults, {{ fixed(100 * drill.progress, 0) }} % done.
    <button class="link" @click="scanning.stopDrill">Stop</button>
  </p>
  <p v-else-if="drill?.state === 'failed'" class="sentence worse">{{ drill.reason }}</p>
  <template v-if="scan?.using !== 'contender' && drill?.state !== 'running'">
    <ShapePad
      v-if="drawing"
      :taken="drill?.recall.map((each) => each.kind) ?? []"
      @made="add"
      @close="drawing = false"
    />
    <div v-else class="pair">
      <button class="button" @click="again(own)">
        {{ drill?.state === 'done' ? 'Drill again' : 'Plant faults and look for them' }}
      </button>
      <button class="button" @click="drawing = true">Draw one</button>
    </div>
    <p v-if="Object.keys(own).length && !drawing" class="second sentence">
      Drawn:
      <button
        v-for="(_, name) in own"
        :key="name"
        class="link"
        v-tip="'Drill again without it'"
        @click="without(String(name))"
      >
        {{ name }} ×
      </button>
    </p>
  </template>
</template>

<style scoped>
h2 {
  margin: 4px 0 -6px;
  font-size: 13px;
}
.sentence {
  margin: 0;
}
.pair {
  display: grid;
  grid-template-columns: 1fr auto;
  gap: 6px;
}
</style>
