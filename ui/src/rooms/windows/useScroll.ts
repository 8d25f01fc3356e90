import { useVirtualizer } from '@tanstack/vue-virtual'
import { computed, type Ref } from 'vue'

/** Width of a column, px. */
export const WIDTH = 92

/** What is in view of a table of very many rows and columns; `lead` is the width of its first column, px. */
export function useScroll(
  host: Ref<HTMLElement | undefined>,
  total: Ref<number>,
  columns: () => number,
  lead: Ref<number>,
) {
  const virtual = useVirtualizer(
    computed(() => ({
      count: total.value,
      getScrollElement: () => host.value ?? null,
      estimateSize: () => 22,
      overscan: 6,
    })),
  )
  const items = computed(() => virtual.value.getVirtualItems())
  const across = useVirtualizer(
    computed(() => ({
      horizontal: true,
      count: columns(),
      getScrollElement: () => host.value ?? null,
      estimateSize: () => WIDTH,
      paddingStart: lead.value,
      scrollPaddingStart: lead.value,
      overscan: 2,
    })),
  )
  const seen = computed(() => across.value.getVirtualItems())
  return { virtual, items, across, seen }
}
