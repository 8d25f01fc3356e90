import { defineStore } from 'pinia'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useProject } from './project'

const AT_MOST_EVERY = 100

/** What is looked at: series, cutoff, visible span, units. It lives in the URL, so closing a tab loses nothing. */
export const useView = defineStore('view', () => {
  const store = useProject()
  const router = useRouter()
  const route = useRoute()
  const series = ref(0)
  const cutoff = ref(0)
  const span = ref<[number, number]>([0, 1])
  const flat = ref(false)
  /** Which part of a room is open, where a room has several. */
  const part = ref('')
  /** The time under the pointer and the values there, one entry per lane. */
  const hover = ref<number | null>(null)
  const readings = ref<Record<string, { label: string; value: string; color?: string }[]>>({})
  const inspector = ref(true)
  const selection = ref<[number, number] | null>(null)
  /** Steps ahead that a room shows; a lane then opens on six times as many before the cutoff. */
  const ahead = ref(0)
  /** Whether the selected span is about to be masked. */
  const masking = ref(false)

  const extent = computed<[number, number]>(() => {
    const axis = store.axis
    return axis ? [axis.time(0), axis.time(axis.end - 1)] : [0, 1]
  })
  const key = computed(() => store.dataset?.series[series.value]?.key ?? '')
  const unit = computed(() => store.dataset?.unit ?? '')

  /** Whether a hand or the URL chose the cutoff; only where nobody did may a room suggest one. */
  let chosen = false
  /** The same of the span. */
  let framed = false
  let opened: number | null = null

  /** The URL is read once, when a project opens; from then on the state is the owner and writes the URL. */
  function settle() {
    const axis = store.axis
    if (!axis) return
    const project = store.project?.id ?? null
    if (project !== opened) {
      opened = project
      read(axis.end)
      return
    }
    series.value = Math.min(series.value, (store.dataset?.series.length ?? 1) - 1)
    cutoff.value = Math.min(Math.max(cutoff.value, 1), axis.end)
  }

  function read(end: number) {
    const count = store.dataset?.series.length ?? 1
    const query = route.query
    chosen = Number(query.cutoff ?? 0) > 0
    series.value = Math.min(Number(query.series ?? 0) || 0, count - 1)
    cutoff.value = Math.min(Math.max(Number(query.cutoff ?? 0) || Math.round(end * 0.8), 1), end)
    const from = Number(query.from ?? NaN)
    const to = Number(query.to ?? NaN)
    framed = from < to
    span.value = framed ? [from, to] : around(cutoff.value)
    flat.value = query.units === 'flat'
    part.value = String(query.part ?? '')
  }

  /** A readable span around a cutoff: about two longer seasons, mostly past. */
  function around(position: number): [number, number] {
    const axis = store.axis
    if (!axis) return [0, 1]
    if (ahead.value)
      return [
        axis.time(position - 1 - Math.max(6 * ahead.value, 12)),
        axis.time(position - 1 + Math.ceil(1.5 * ahead.value) + 1),
      ]
    const season = axis.grid.seasons[1] ?? (axis.grid.seasons[0] ?? 12) * 4
    const width = Math.min(Math.max(season * 2, 48), 2000)
    const [first, last] = extent.value
    const pad = (last - first) * 0.04 + 1
    return [
      Math.max(axis.time(position - 1 - Math.round(width * 0.7)), first - pad),
      Math.min(axis.time(position - 1 + Math.round(width * 0.45)), last + pad),
    ]
  }

  /** A room tells how far ahead it looks; the view opens on that unless somebody chose what is seen. */
  function frame(steps: number) {
    ahead.value = steps
    if (!framed && steps) span.value = around(cutoff.value)
  }

  function setSpan(low: number, high: number) {
    framed = true
    const [first, last] = extent.value
    const pad = (last - first) * 0.04 + 1
    const least = (store.axis?.grid.seconds ?? 86400) * 4
    const width = Math.min(Math.max(high - low, least), last - first + 2 * pad)
    const start = Math.min(Math.max(low, first - pad), last + pad * 3 - width)
    span.value = [start, start + width]
  }

  function setCutoff(position: number, follow = false) {
    chosen = true
    place(position, follow)
  }

  /** A place for the cutoff that a room finds better than the default; a choice stays. */
  function suggestCutoff(position: number) {
    if (!chosen) place(position, true)
  }

  function place(position: number, follow: boolean) {
    const axis = store.axis
    if (!axis) return
    cutoff.value = Math.min(Math.max(Math.round(position), 1), axis.end)
    const time = axis.time(cutoff.value - 1)
    if (follow && (time < span.value[0] || time > span.value[1])) span.value = around(cutoff.value)
  }

  function moveSeries(by: number) {
    const count = store.dataset?.series.length ?? 1
    series.value = (series.value + by + count) % count
  }

  watch(() => [store.project?.id, store.dataset?.id], settle)
  // A replace while another room is still loading would cancel that navigation, so it waits for it.
  let said = 0
  let pending: ReturnType<typeof setTimeout> | undefined
  let navigating = false
  router.beforeEach(() => void (navigating = true))
  router.onError(() => void (navigating = false))
  router.afterEach(() => {
    navigating = false
    schedule()
  })

  /** The state as a query, or null where the URL says it already, names no project, or another room is on its way. */
  function unsaid(): Record<string, string> | null {
    if (navigating || !store.dataset || opened !== store.project?.id) return null
    if (Number(route.params.project) !== opened) return null
    const query: Record<string, string> = {
      series: String(series.value),
      cutoff: String(cutoff.value),
      from: String(Math.round(span.value[0])),
      to: String(Math.round(span.value[1])),
      ...(flat.value ? { units: 'flat' } : {}),
      ...(part.value ? { part: part.value } : {}),
    }
    const names = new Set([...Object.keys(query), ...Object.keys(route.query)])
    return [...names].some((name) => query[name] !== route.query[name]) ? query : null
  }

  function schedule() {
    clearTimeout(pending)
    pending = setTimeout(() => {
      const query = unsaid()
      if (query) void router.replace({ query })
    }, 300)
  }
  watch([series, cutoff, span, flat, part], schedule)
  // The address bar says it at once, so that a reload loses nothing; the router is told when things have settled.
  watch([series, cutoff, span, flat, part], () => {
    if (performance.now() - said < AT_MOST_EVERY) return
    said = performance.now()
    const query = unsaid()
    if (query) history.replaceState(history.state, '', router.resolve({ query }).href)
  })

  return {
    series,
    cutoff,
    span,
    flat,
    part,
    hover,
    readings,
    inspector,
    selection,
    masking,
    extent,
    key,
    unit,
    around,
    frame,
    setSpan,
    setCutoff,
    suggestCutoff,
    moveSeries,
  }
})
