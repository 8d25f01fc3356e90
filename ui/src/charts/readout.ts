import { onBeforeUnmount } from 'vue'
import { useView } from '../state/view'

export interface Reading {
  label: string
  value: string
  color?: string
}

/** What one chart says in the readout; nothing once it is gone. */
export function useReadout(name: () => string) {
  const view = useView()
  let told = ''
  function tell(rows: Reading[]) {
    told = name()
    if (rows.length) view.readings = { ...view.readings, [told]: rows }
    else if (told in view.readings) {
      const rest = { ...view.readings }
      delete rest[told]
      view.readings = rest
    }
  }
  onBeforeUnmount(() => told && tell([]))
  return { tell }
}
