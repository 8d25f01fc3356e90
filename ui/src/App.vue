<script setup lang="ts">
import { computed, defineAsyncComponent, onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { attempt } from './api/client'
import { undoable } from './state/kept'
import { useKeys } from './state/keys'
import { useProject } from './state/project'
import { useView } from './state/view'
import RailBar from './widgets/RailBar.vue'
import ReadoutLine from './widgets/ReadoutLine.vue'
import { chartMenu } from './charts/menu'
import { useTips } from './theme/tip'
import RoomSkeleton from './widgets/RoomSkeleton.vue'
import TopBar from './widgets/TopBar.vue'

const CommandPalette = defineAsyncComponent(() => import('./widgets/CommandPalette.vue'))
const KeptPanel = defineAsyncComponent(() => import('./widgets/KeptPanel.vue'))
const KeySheet = defineAsyncComponent(() => import('./widgets/KeySheet.vue'))
const WorkList = defineAsyncComponent(() => import('./widgets/WorkList.vue'))
const DoneToast = defineAsyncComponent(() => import('./widgets/DoneToast.vue'))
const ChartMenu = defineAsyncComponent(() => import('./charts/ChartMenu.vue'))
const store = useProject()
useView()
useTips()
const route = useRoute()
const router = useRouter()
const { palette, sheet, work, kept } = useKeys()
/** From the first deletion on there is something to take back. */
const told = ref(false)
watch(undoable, () => (told.value = true))
const ready = ref(false)
const projectId = computed(() => Number(route.params.project ?? 0) || null)

async function enter() {
  const listed = store.loadList()
  listed.catch(() => undefined)
  // A project that is named need not wait for the list of all.
  if (!projectId.value) await listed
  const wanted = projectId.value ?? (route.name === 'home' ? null : (store.list[0]?.id ?? null))
  if (projectId.value && store.project?.id !== projectId.value) {
    await store.open(projectId.value)
  } else if (!projectId.value && store.list.length && route.name === 'home' && !route.query.projects) {
    await router.replace({ name: 'walkforward', params: { project: wanted ?? store.list[0]?.id ?? 0 } })
  }
  ready.value = true
  await listed
}
onMounted(async () => {
  await router.isReady()
  await attempt(enter)
  ready.value = true
})
watch(projectId, () => ready.value && void attempt(enter))
</script>

<template>
  <div class="frame">
    <TopBar @palette="palette = true" @work="work = !work" @kept="kept = !kept" />
    <RailBar />
    <main>
      <RouterView v-if="ready" :key="projectId ?? 0" />
      <RoomSkeleton v-else />
    </main>
    <ReadoutLine />
    <CommandPalette
      v-if="palette"
      @close="palette = false"
      @kept="kept = true"
      @work="work = true"
      @keys="sheet = true"
    />
    <KeySheet v-if="sheet" @close="sheet = false" />
    <WorkList v-if="work" @close="work = false" />
    <KeptPanel v-if="kept" @close="kept = false" />
    <ChartMenu v-if="chartMenu" />
    <DoneToast v-if="told" />
  </div>
</template>

<style scoped>
.frame {
  height: 100%;
  display: grid;
  grid-template: 40px minmax(0, 1fr) 24px / 64px minmax(0, 1fr);
  grid-template-areas: 'top top' 'rail main' 'read read';
}
main {
  grid-area: main;
  min-width: 0;
  min-height: 0;
  overflow: hidden;
}
</style>
