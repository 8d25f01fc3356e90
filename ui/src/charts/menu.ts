import { shallowRef } from 'vue'

export interface MenuEntry {
  label: string
  command: () => unknown
}

/** The one menu of all charts: where it was opened, and what it offers there. */
export const chartMenu = shallowRef<{ event: Event; items: MenuEntry[] } | null>(null)
