import { computed, ref, type ComputedRef } from 'vue'
import { number } from '../state/format'
import type { Plot } from './plot'
import { place, type Layout } from './plotOption'
import { useReadout, type Reading } from './readout'

const NEAR = 24

/** The point under the pointer, or where arrow keys have moved; what is there is said in the readout. */
export function usePlotCursor(plot: ComputedRef<Plot>, layout: ComputedRef<Layout>, title: () => string) {
  const at = ref<{ series: number; place: number } | null>(null)
  const { tell } = useReadout(title)

  const nameOf = (x: number) => plot.value.names?.[Math.round(x)] ?? number(x)
  /** Every series that has a value at this place of the axis; of a cloud only the point itself. */
  function read(): Reading[] {
    const here = at.value && plot.value.series[at.value.series]
    if (!at.value || !here) return []
    const x = here.x[at.value.place] as number
    const here_only = here.kind === 'points'
    const rows = plot.value.series.filter((each) =>
      here_only ? each === here : !each.still && each.kind !== 'points',
    )
    return [
      { label: plot.value.xLabel || title(), value: nameOf(x) },
      ...rows.slice(0, 6).flatMap((each) => {
        const i = each === here ? at.value!.place : each.x.findIndex((one) => Math.abs(one - x) < 0.45)
        const value = each.y[i]
        if (value === null || value === undefined) return []
        const other = each.to?.[i]
        const text = other == null ? number(value) : `${number(value)} … ${number(other)}`
        return [{ label: each.label, value: text, color: each.color }]
      }),
    ]
  }
  const said = computed(() =>
    read()
      .slice(1)
      .map((each) => `${each.label} ${each.value}`)
      .slice(0, 1)
      .map((text) => `${nameOf(plot.value.series[at.value!.series]?.x[at.value!.place] ?? 0)}: ${text}`)
      .join(''),
  )
  function set(next: { series: number; place: number } | null) {
    if (at.value?.series === next?.series && at.value?.place === next?.place) return
    at.value = next
    tell(read())
  }

  /** The nearest point: of lines and bars the nearest along the axis, of a cloud the nearest of all. */
  function point(event: PointerEvent) {
    const box = (event.currentTarget as HTMLElement).getBoundingClientRect()
    const [left, top] = [event.clientX - box.left, event.clientY - box.top]
    let best: { series: number; place: number } | null = null
    let least = NEAR ** 2
    plot.value.series.forEach((each, series) => {
      if (each.still) return
      each.y.forEach((y, i) => {
        if (y === null) return
        const [px, py] = place(layout.value, plot.value, each.x[i] as number, y)
        const across = (px - left) ** 2
        const apart = across + (each.kind === 'points' ? (py - top) ** 2 : (py - top) ** 2 * 1e-3)
        if (apart < least) [best, least] = [{ series, place: i }, apart]
      })
    })
    set(best)
  }
  /** Along the points of a series, or to another series; places without a value are passed over. */
  function move(along: number, to: number) {
    const all = plot.value.series
    const readable = all.map((each, i) => ({ each, i })).filter(({ each }) => !each.still && each.y.length)
    if (!readable.length) return
    const now = Math.max(
      readable.findIndex(({ i }) => i === at.value?.series),
      0,
    )
    const { each, i } = readable[(now + to + readable.length) % readable.length] as (typeof readable)[number]
    const last = each.y.length - 1
    let next = at.value ? at.value.place + along : along < 0 ? last : 0
    next = Math.min(Math.max(next, 0), last)
    while (each.y[next] === null && along && next > 0 && next < last) next += Math.sign(along)
    set({ series: i, place: next })
  }
  return { at, said, move, point, leave: () => set(null) }
}
