import { computed, type Ref } from 'vue'
import type { Shapes } from '../../api/client'
import { number } from '../../state/format'
import { useProject } from '../../state/project'
import type { Plan } from './planText'

/** What the drawing of one row is made from. */
export interface Row {
  sources: Shapes['SourceView'][]
  plan: Plan
  lit: string | null
  origin: number
  line: { start: number; values: (number | null)[] }
  label: string
}
export const W = 1000
export const LEFT = 110
const TOP = 52

/** Where everything of one row lies on its drawing, to scale in time. */
export function useSchematic(props: Row, sketch: Ref<Plan | null>, back: Ref<number>) {
  const store = useProject()
  const now = computed(() => sketch.value ?? props.plan)
  const ahead = computed(() => Math.max(1, ...(props.plan.horizon ?? [1])))
  const wanted = computed(() => {
    const others = props.sources.filter((each) => !each.whole && !['lags', 'rolling'].includes(each.kind))
    const rolling = (props.plan.rolling ?? []).map((each) => each.window)
    return Math.max(
      24,
      ...others.map((each) => -each.first + 1),
      ...rolling,
      ...((props.plan.lags ?? []) as number[]),
    )
  })
  /** The scale stays while something is dragged. */
  const reach = computed(() => (sketch.value ? back.value : Math.ceil(wanted.value * 1.12)))
  /** Steps drawn after the origin: the horizon, and room for its label. */
  const room = computed(() => {
    const label = (props.plan.recursive ? 130 : 70) / (W - LEFT - 12)
    return Math.max(Math.ceil((ahead.value + label * reach.value) / (1 - label)), Math.ceil(reach.value / 8))
  })
  const cell = computed(() => (W - LEFT - 12) / (reach.value + room.value))
  const x = (step: number) => LEFT + (reach.value + step) * cell.value

  const KINDS: [string, string, string][] = [
    ['change', 'changes', 'var(--c3)'],
    ['weighted', 'weighted', 'var(--c4)'],
    ['expanding', 'so far', 'var(--c4)'],
    ['since', 'since', 'var(--c8)'],
    ['flagged', 'flagged', 'var(--c3)'],
    ['calendar', 'calendar', 'var(--c5)'],
    ['fourier', 'waves', 'var(--c5)'],
    ['occasion', 'occasions', 'var(--c7)'],
    ['covariate', 'covariates', 'var(--c6)'],
    ['static', 'static', 'var(--c8)'],
  ]
  const others = computed(() =>
    KINDS.map(([kind, title, color]) => ({
      kind,
      title,
      color,
      items: props.sources.filter((each) => each.kind === kind),
    })).filter((lane) => lane.items.length),
  )
  const rolling = computed(() =>
    (now.value.rolling ?? []).map((each, place) => {
      const level = each.level == null ? '' : ` ${each.level}`
      const known = each.least == null ? '' : ` of ${each.least}`
      return { place, window: each.window, name: `${each.statistic}${level} ${each.window}${known}` }
    }),
  )
  const widths = computed(() => [...new Set(rolling.value.map((each) => each.window))].sort((a, b) => b - a))
  const rollingHeight = computed(() => Math.max(16, Math.min(widths.value.length, 4) * 6 + 4))
  const lagsTop = TOP
  const rollingTop = TOP + 18
  const othersTop = computed(() => rollingTop + (rolling.value.length ? rollingHeight.value + 2 : 0))
  const targetTop = computed(() => othersTop.value + others.value.length * 18)
  const height = computed(() => targetTop.value + 18 + 24)

  const marks = computed(() => {
    const season = Math.round(store.axis?.grid.seasons[0] ?? 12)
    const every = Math.max(season, Math.ceil(reach.value / 6 / season) * season)
    const out: number[] = []
    for (let step = -every; step > -reach.value; step -= every) out.push(step)
    return out
  })

  /** The series in view as path data, known and not yet known. */
  const curve = computed(() => {
    const { start, values } = props.line
    const from = props.origin - reach.value + 1
    const to = props.origin + room.value
    const shown: [number, number][] = []
    for (let at = from; at <= to; at++) {
      const value = values[at - start]
      if (value !== null && value !== undefined) shown.push([at - props.origin, value])
    }
    const low = Math.min(...shown.map((each) => each[1]))
    const high = Math.max(...shown.map((each) => each[1]))
    const y = (value: number) => (high > low ? 44 - ((value - low) / (high - low)) * 38 : 25)
    const path = (points: [number, number][]) => {
      let text = ''
      let previous = NaN
      for (const [step, value] of points) {
        text += `${step === previous + 1 ? 'L' : 'M'}${(x(step) - cell.value / 2).toFixed(1)} ${y(value).toFixed(1)}`
        previous = step
      }
      return text
    }
    const known = shown.filter(([step]) => step <= 0)
    const source = props.sources.find((each) => each.name === props.lit)
    const read = source ? shown.filter(([s]) => s >= source.first && s <= source.last) : []
    return {
      known: path(known),
      coming: path(shown.filter(([step]) => step >= 0)),
      read: path(read),
      dots:
        read.length && read.length <= 60 ? read.map(([s, v]) => [x(s) - cell.value / 2, y(v)] as const) : [],
      range: shown.length ? `${number(low, 3)} … ${number(high, 3)}` : '',
    }
  })

  function box(item: Shapes['SourceView'], kind: string) {
    const atTarget = kind === 'calendar' || kind === 'fourier' || kind === 'static' || kind === 'occasion'
    const first = atTarget ? (props.plan.horizon?.[0] ?? 1) : Math.max(item.first, 1 - reach.value)
    const last = atTarget ? first : Math.min(item.last, room.value)
    return {
      x: x(first - 1) + 0.4,
      width: Math.max((last - first + 1) * cell.value - 0.8, 2),
      y: 0,
      height: 12,
    }
  }
  const places = { ahead, reach, room, cell, x, lagsTop, rollingTop, othersTop, targetTop, height }
  return { ...places, now, others, rolling, widths, marks, curve, box }
}
