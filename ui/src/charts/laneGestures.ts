import type uPlot from 'uplot'
import type { useView } from '../state/view'

/** The wheel zooms at the pointer, drag pans, Alt-drag selects, double click shows all; a threshold is dragged. */
export function attachGestures(
  chart: uPlot,
  view: ReturnType<typeof useView>,
  tell: {
    threshold: () => number | null
    setThreshold: (value: number) => void
    pick: (time: number) => void
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
    let moved = false
    const move = (now: PointerEvent) => {
      moved ||= Math.abs(now.clientX - x) + Math.abs(now.clientY - y) > 3
      if (onThreshold) tell.setThreshold(chart.posToVal(now.clientY - top(), 'y'))
      else if (event.altKey) view.selection = [Math.min(begun, timeAt(now)), Math.max(begun, timeAt(now))]
      else if (moved) view.setSpan(low - (now.clientX - x) * scale, high - (now.clientX - x) * scale)
    }
    const up = () => {
      over.removeEventListener('pointermove', move)
      over.removeEventListener('pointerup', up)
      if (!moved) tell.pick(begun)
    }
    over.addEventListener('pointermove', move)
    over.addEventListener('pointerup', up)
  })
}
