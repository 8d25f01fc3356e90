import { ref, type Ref } from 'vue'

const LEAST = 30

/** Widths of columns that were drawn wider or narrower, px, by name. */
export function useColumnWidths(body: Ref<HTMLElement | undefined>) {
  const widths = ref<Record<string, number>>({})
  const headOf = (name: string) =>
    body.value?.querySelector<HTMLElement>(`th[data-column="${CSS.escape(name)}"]`)

  function widen(name: string, by: number) {
    const now = widths.value[name] ?? headOf(name)?.offsetWidth ?? 0
    widths.value = { ...widths.value, [name]: Math.max(now + by, LEAST) }
  }
  function drag(event: PointerEvent, name: string) {
    const edge = event.currentTarget as HTMLElement
    edge.setPointerCapture(event.pointerId)
    let last = event.clientX
    const move = (next: PointerEvent) => {
      widen(name, next.clientX - last)
      last = next.clientX
    }
    edge.addEventListener('pointermove', move)
    const end = () => edge.removeEventListener('pointermove', move)
    edge.addEventListener('pointerup', end, { once: true })
    edge.addEventListener('pointercancel', end, { once: true })
  }
  return { widths, drag, widen }
}
