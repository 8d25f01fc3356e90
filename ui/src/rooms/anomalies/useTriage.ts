import { computed, ref, watch } from 'vue'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import { keyOf, type FlagView, type Verdict } from './flags'
import type { Said, Scanning } from './useScan'

export type Shown = 'open' | 'right' | 'wrong' | 'all' | 'explained'

/** Going through flags: which are listed, which one is looked at, what is said of it or of all like it. */
export function useTriage(scanning: Scanning) {
  const store = useProject()
  const view = useView()
  const show = ref<Shown>('all')
  const kind = ref('')
  const here = ref(false)
  const picked = ref<string | null>(null)
  /** The flags that what is said next is said of: one, or all like it. */
  const group = ref<FlagView[]>([])
  const labelling = ref(false)

  const kinds = computed(() =>
    [...new Set(scanning.flags.value.map((flag) => flag.named ?? flag.kind))].sort(),
  )
  const listed = computed(() => {
    const from = show.value === 'explained' ? (scanning.found.value?.explained ?? []) : scanning.flags.value
    return from
      .filter(
        (flag) => ['all', 'explained', flag.verdict].includes(show.value) || keyOf(flag) === picked.value,
      )
      .filter((flag) => !kind.value || (flag.named ?? flag.kind) === kind.value)
      .filter((flag) => !here.value || flag.series === view.series)
      .sort((a, b) => b.time - a.time || a.series - b.series)
  })
  const flag = computed(() => scanning.flags.value.find((each) => keyOf(each) === picked.value) ?? null)

  function go(to: FlagView) {
    picked.value = keyOf(to)
    group.value = []
    view.series = to.series
    const step = Math.max((store.axis?.time(1) ?? 1) - (store.axis?.time(0) ?? 0), 1)
    const season = Math.max(...(store.dataset?.grid.seasons ?? []).filter((each) => each < 400), 24)
    const around = Math.max((to.last - to.time) * 1.5, step * season)
    view.setSpan(to.time - around, to.last + around)
  }
  function step(by: number) {
    const at = listed.value.findIndex((each) => keyOf(each) === picked.value)
    const next = listed.value[at < 0 ? (by > 0 ? 0 : listed.value.length - 1) : at + by]
    if (next) go(next)
  }
  /** Say something of what is picked, and go on to the next one that is open. */
  function say(said: Said) {
    const one = flag.value
    if (!one) return
    const of = group.value.length ? group.value : [one]
    const order = listed.value
    const at = order.findIndex((each) => keyOf(each) === keyOf(one))
    const judged = new Set(of.map(keyOf))
    void scanning.judge(of, said)
    group.value = []
    const open = (each: FlagView) => each.verdict === 'open' && !judged.has(keyOf(each))
    const next = order.slice(at + 1).find(open) ?? order.find(open)
    if (next && said.verdict !== 'open') go(next)
  }
  function verdict(wanted: Verdict) {
    const one = flag.value
    if (!one) return
    const same = one.verdict === wanted && !group.value.length
    say({ verdict: same ? 'open' : wanted, kind: one.named, note: one.note })
  }
  async function like() {
    if (flag.value) group.value = await scanning.alike(flag.value)
  }
  /** The selected span of the series, on the grid; null where nothing is selected. */
  const selected = computed(() => {
    const { axis } = store
    if (!view.selection || !axis) return null
    const [from, to] = view.selection
    const series = store.dataset?.series[view.series]
    if (!series) return null
    const start = Math.max(axis.position(from - 1e-6) + 1, series.start)
    const stop = Math.min(axis.position(to) + 1, series.start + series.length)
    return stop > start ? { key: series.key, start, stop } : null
  })
  /** The selection is what is anomalous: the flag it touches reaches so far, or nothing was flagged there. */
  function adjust(said: Partial<Said> = {}) {
    const span = selected.value
    if (!span) return
    const touched = scanning.flags.value.find(
      (each) => each.key === span.key && each.start < span.stop && span.start < each.stop,
    )
    const before = { kind: touched?.named ?? null, note: touched?.note ?? '' }
    void scanning.judge([span], { verdict: 'right', ...before, ...said, adjusted: true })
    if (touched) picked.value = keyOf(span)
    view.selection = null
  }
  /** Select the span of the flag, its ends so many steps later; what is selected already is moved on. */
  function reach(start: number, stop: number) {
    const { axis } = store
    const span = selected.value ?? flag.value
    if (!axis || !span || span.stop + stop <= span.start + start) return
    const half = (axis.time(1) - axis.time(0)) / 2
    view.selection = [axis.time(span.start + start) - half, axis.time(span.stop + stop - 1) + half]
  }
  function label(said: { kind: string | null; note: string }) {
    labelling.value = false
    if (selected.value) adjust(said)
    else if (flag.value) say({ verdict: flag.value.verdict === 'wrong' ? 'wrong' : 'right', ...said })
  }
  watch(scanning.id, () => {
    picked.value = null
    group.value = []
  })
  return {
    show,
    kind,
    kinds,
    here,
    picked,
    group,
    labelling,
    listed,
    flag,
    selected,
    go,
    step,
    verdict,
    like,
    adjust,
    reach,
    label,
  }
}
export type Triage = ReturnType<typeof useTriage>
