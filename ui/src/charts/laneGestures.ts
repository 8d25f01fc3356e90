import type uPlot from 'uplot'
import type { useView } from '../state/view'

const NEAR = 6

/** The wheel zooms at the pointer, drag pans, Alt-drag selects, double click shows all; a threshold is dragged, and so
 * are the ends of a span that may reach further; where values may be drawn by hand, drag draws. */
export function attachGestures(
  chart: uPlot,
  view: ReturnType<typeof useView>,
  tell: {
    threshold: () => number | null
    setThreshold: (value: number) => void
    pick: (time: number) => void
    /** The span whose ends may be dragged, times. */
    adjustable: () => [number, number] | null
    adjust: (span: [number, number]) => void
    /** Whether drag draws from a time on. */
    drawable: (time: number) => boolean
    draw: (from: [number, number], to: [number, number]) => void
  },
) {
  const over = chart.over
  const top = () => over.getBoundingClientRect().top
  const timeAt = (event: MouseEvent) => chart.posToVal(event.clientX - over.getBoundingClientRect().left, 'x')
  over.addEventListener(
    'wheel',
    (event) => {
      event.preventDefault()
      const at = timeAt(event)
      const factor = Math.exp(Math.max(-1, Math.min(1, event.deltaY / 300)))
      view.setSpan(at - (at - view.span[0]) * factor, at + (view.span[1] - at) * factor)
    },
    { passive: false },
  )
  /** The end of the span that the pointer is at: which one, and the other. */
  const endAt = (event: MouseEvent): { at: number; other: number } | null => {
    const span = tell.adjustable()
    if (!span || event.altKey) return null
    const x = event.clientX - over.getBoundingClientRect().left
    const off = span.map((time) => Math.abs(chart.valToPos(time, 'x') - x)) as [number, number]
    if (Math.min(...off) > NEAR) return null
    return off[0] < off[1] ? { at: span[0], other: span[1] } : { at: span[1], other: span[0] }
  }
  over.addEventListener('pointermove', (event) => {
    if (event.buttons) return
    const draws = tell.drawable(timeAt(event)) && !event.altKey
    over.style.cursor = endAt(event) ? 'ew-resize' : draws ? 'crosshair' : ''
  })
  over.addEventListener('dblclick', () => view.setSpan(...view.extent))
  over.addEventListener('pointerdown', (event) => {
    if (event.button !== 0) return
    over.setPointerCapture(event.pointerId)
    const begun = timeAt(event)
    const [low, high] = view.span
    const scale = (high - low) / over.clientWidth
    const { clientX: x, clientY: y } = event
    const line = tell.threshold()
    const onThreshold = line !== null && Math.abs(chart.valToPos(line, 'y') - (y - top())) < 8
    const end = endAt(event)
    const draws = !event.altKey && tell.drawable(begun)
    const placeOf = (now: PointerEvent): [number, number] => [
      timeAt(now),
      chart.posToVal(now.clientY - top(), 'y'),
    ]
    let last = placeOf(event)
    let moved = false
    const move = (now: PointerEvent) => {
      moved ||= Math.abs(now.clientX - x) + Math.abs(now.clientY - y) > 3
      if (draws) {
        const here = placeOf(now)
        if (moved) tell.draw(last, here)
        last = here
      } else if (onThreshold) tell.setThreshold(chart.posToVal(now.clientY - top(), 'y'))
      else if (end && moved) view.selection = ordered(end.other, timeAt(now))
      else if (event.altKey) view.selection = ordered(begun, timeAt(now))
      else if (moved) view.setSpan(low - (now.clientX - x) * scale, high - (now.clientX - x) * scale)
    }
    const up = () => {
      over.removeEventListener('pointermove', move)
      over.removeEventListener('pointerup', up)
      if (!moved) tell.pick(begun)
      else if (end && view.selection) tell.adjust(view.selection)
    }
    over.addEventListener('pointermove', move)
    over.addEventListener('pointerup', up)
  })
}

const ordered = (one: number, other: number): [number, number] => [Math.min(one, other), Math.max(one, other)]
