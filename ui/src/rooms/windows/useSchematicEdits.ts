import { ref, type Ref } from 'vue'
import type { Plan } from './planText'
import { LEFT, W, type Row, type useSchematic } from './useSchematic'

/** Lags swept on and off, edges of rolling spans and of the horizon dragged; all of it by keys as well. */
export function useSchematicEdits(
  props: Row,
  { ahead, reach, cell }: Pick<ReturnType<typeof useSchematic>, 'ahead' | 'reach' | 'cell'>,
  { svg, sketch, back }: { svg: Ref<SVGSVGElement | undefined>; sketch: Ref<Plan | null>; back: Ref<number> },
  change: (plan: Plan) => void,
) {
  function stepAt(event: PointerEvent) {
    const frame = svg.value?.getBoundingClientRect()
    if (!frame) return 0
    return (
      Math.floor((((event.clientX - frame.left) / frame.width) * W - LEFT) / cell.value - reach.value) + 1
    )
  }
  function drag(event: PointerEvent, move: (step: number) => Plan) {
    const mark = event.currentTarget as Element
    mark.setPointerCapture(event.pointerId)
    back.value = reach.value
    sketch.value = move(stepAt(event))
    const onMove = (next: Event) => (sketch.value = move(stepAt(next as PointerEvent)))
    const onUp = () => {
      mark.removeEventListener('pointermove', onMove)
      const made = sketch.value
      sketch.value = null
      if (made && JSON.stringify(made) !== JSON.stringify(props.plan)) change(made)
    }
    mark.addEventListener('pointermove', onMove)
    mark.addEventListener('pointerup', onUp, { once: true })
    mark.addEventListener('pointercancel', () => ((sketch.value = null), onUp()), { once: true })
  }
  const withLags = (lags: Set<number>): Plan => ({ ...props.plan, lags: [...lags].sort((a, b) => a - b) })

  function sweepLags(event: PointerEvent) {
    const before = new Set((props.plan.lags ?? []) as number[])
    const first = Math.max(1 - stepAt(event), 1)
    const adding = !before.has(first)
    drag(event, (step) => {
      const lags = new Set(before)
      const last = Math.max(1 - step, 1)
      for (let lag = Math.min(first, last); lag <= Math.max(first, last); lag++)
        if (adding) lags.add(lag)
        else lags.delete(lag)
      return withLags(lags)
    })
  }
  const LEAST: Record<string, number> = { std: 2, slope: 2 }
  function widened(place: number, window: number): Plan {
    const list = [...(props.plan.rolling ?? [])]
    const each = list[place]
    if (!each) return props.plan
    list[place] = { ...each, window: Math.max(window, LEAST[each.statistic] ?? 1, each.least ?? 1) }
    const names = new Set(list.map((r) => `${r.statistic} ${r.level} ${r.window} ${r.least}`))
    return names.size === list.length ? { ...props.plan, rolling: list } : props.plan
  }
  const dragSpan = (event: PointerEvent, place: number) => drag(event, (step) => widened(place, 1 - step))
  function farther(step: number): Plan {
    const horizon = (props.plan.horizon ?? [1]) as number[]
    const last = Math.max(step, 1)
    if (horizon.length === 1 && horizon[0] !== 1) return { ...props.plan, horizon: [last] }
    return { ...props.plan, horizon: Array.from({ length: last }, (_, i) => i + 1), recursive: false }
  }
  const dragHorizon = (event: PointerEvent) => drag(event, farther)

  const cursor = ref(1)
  const onLags = ref(false)
  function lagKeys(event: KeyboardEvent) {
    const moves: Record<string, number> = { ArrowLeft: 1, ArrowRight: -1, PageUp: 24, PageDown: -24 }
    if (event.key in moves) {
      const from = cursor.value
      cursor.value = Math.max(1, from + (moves[event.key] ?? 0))
      if (event.shiftKey) {
        const lags = new Set((props.plan.lags ?? []) as number[])
        const adding = lags.has(from)
        if (adding) lags.add(cursor.value)
        else lags.delete(cursor.value)
        change(withLags(lags))
      }
    } else if (event.key === ' ' || event.key === 'Enter') {
      const lags = new Set((props.plan.lags ?? []) as number[])
      if (!lags.delete(cursor.value)) lags.add(cursor.value)
      change(withLags(lags))
    } else return
    event.preventDefault()
  }
  function spanKeys(event: KeyboardEvent, place: number) {
    const window = props.plan.rolling?.[place]?.window ?? 1
    if (event.key === 'ArrowLeft') change(widened(place, window + (event.shiftKey ? 24 : 1)))
    else if (event.key === 'ArrowRight')
      change(widened(place, Math.max(1, window - (event.shiftKey ? 24 : 1))))
    else if (event.key === 'Delete' || event.key === 'Backspace')
      change({ ...props.plan, rolling: (props.plan.rolling ?? []).filter((_, i) => i !== place) })
    else return
    event.preventDefault()
  }
  function horizonKeys(event: KeyboardEvent) {
    if (event.key === 'ArrowRight') change(farther(ahead.value + (event.shiftKey ? 24 : 1)))
    else if (event.key === 'ArrowLeft') change(farther(ahead.value - (event.shiftKey ? 24 : 1)))
    else return
    event.preventDefault()
  }
  return { stepAt, sweepLags, dragSpan, dragHorizon, cursor, onLags, lagKeys, spanKeys, horizonKeys }
}
