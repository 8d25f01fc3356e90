import { useEventListener } from '@vueuse/core'
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { problem } from '../api/client'
import { undoable, useKept } from './kept'
import { ROOMS, useProject } from './project'
import { useView } from './view'

/** What the current room does for r (run) and Esc (stop), and the cutoffs `[` and `]` step through. */
export const roomActions = {
  run: null as (() => void) | null,
  stop: null as (() => void) | null,
  cutoffs: [] as number[],
  /** Keys of the room itself, and what Ctrl Z takes back there. */
  keys: {} as Record<string, () => void>,
  undo: null as (() => void) | null,
}

/** Where a key is meant for what has the focus. */
const TYPED =
  'input:not([type="checkbox"], [type="radio"]), textarea, [contenteditable], [role="combobox"], [role="listbox"], [role="menu"]'

/** The keys of the workbench; typing in a field is left alone. */
export function useKeys() {
  const router = useRouter()
  const route = useRoute()
  const store = useProject()
  const view = useView()
  const palette = ref(false)
  const sheet = ref(false)
  const work = ref(false)
  const kept = ref(false)
  const { undo } = useKept()

  function step(direction: number, single: boolean) {
    if (single) return view.setCutoff(view.cutoff + direction, true)
    const stops = roomActions.cutoffs.length ? roomActions.cutoffs : [store.axis?.end ?? 1]
    const next =
      direction > 0
        ? stops.find((each) => each > view.cutoff)
        : [...stops].reverse().find((each) => each < view.cutoff)
    if (next !== undefined) view.setCutoff(next, true)
  }

  function close() {
    if ([palette, sheet, work, kept].some((each) => each.value))
      palette.value = sheet.value = work.value = kept.value = false
    else if (view.selection) view.selection = null
    else if (problem.value) problem.value = null
    else roomActions.stop?.()
  }

  const actions: Record<string, () => void> = {
    '[': () => step(-1, false),
    ']': () => step(1, false),
    '{': () => step(-1, true),
    '}': () => step(1, true),
    ',': () => view.moveSeries(-1),
    '.': () => view.moveSeries(1),
    u: () => (view.flat = !view.flat),
    z: () => {
      if (view.selection) view.setSpan(...view.selection)
      view.selection = null
    },
    '0': () => view.setSpan(...view.extent),
    m: () => {
      if (!view.selection || !store.project) return
      view.masking = view.inspector = true
      const to = { name: 'intake', params: { project: store.project.id }, query: route.query }
      if (route.name !== 'intake') void router.push(to)
    },
    r: () => roomActions.run?.(),
    k: () => (kept.value = true),
    Escape: close,
    '?': () => (sheet.value = true),
  }

  // Before anything on the page hears it: what Escape closes must not also stop the work behind it.
  useEventListener(window, 'keydown', hear, { capture: true })
  function hear(event: KeyboardEvent) {
    if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'k') {
      event.preventDefault()
      palette.value = !palette.value
      return
    }
    const target = event.target as HTMLElement
    const typing = Boolean(target.closest(TYPED))
    const within = Boolean(target.closest('[role="dialog"]'))
    if (event.key === 'Escape' && typing && !within) target.blur()
    const takesBack = (event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'z'
    if (!typing && takesBack && (undoable.value || roomActions.undo)) {
      event.preventDefault()
      if (undoable.value) void undo()
      else roomActions.undo?.()
      return
    }
    if (typing || event.ctrlKey || event.metaKey || event.altKey) return
    // Behind a dialog of ours nothing is run or left; Escape in one of the library's own is the library's.
    const ours = [palette, sheet, work, kept].some((each) => each.value)
    if (within && ours === (event.key !== 'Escape')) return
    const room = ROOMS[Number(event.key) - 1]
    if (room && store.project) {
      void router.push({ name: room.name, params: { project: store.project.id }, query: route.query })
      return
    }
    const bracket = event.shiftKey && (event.code === 'BracketLeft' || event.code === 'BracketRight')
    const action = bracket
      ? actions[event.code === 'BracketLeft' ? '{' : '}']
      : (roomActions.keys[event.key] ?? actions[event.key])
    if (action) {
      event.preventDefault()
      action()
    }
  }
  return { palette, sheet, work, kept }
}
