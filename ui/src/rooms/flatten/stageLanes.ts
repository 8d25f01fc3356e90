import { computed, type Ref } from 'vue'
import type { Shapes } from '../../api/client'
import { splitAt, type LaneSeries } from '../../charts/lane'
import { fixed } from '../../state/format'

const COLORS = ['var(--c2)', 'var(--c3)', 'var(--c5)', 'var(--c4)', 'var(--c6)', 'var(--c7)']

/** A lane for every part that a stage takes out: learned, carried on, and that of its robust or plain twin. */
export function useStageLanes(stages: Ref<Shapes['StageView'][]>, cutoffTime: Ref<number>) {
  return computed(() => {
    let color = 0
    return stages.value.flatMap((stage) => {
      return stage.parts.map((part, i) => {
        const paint = COLORS[color++ % COLORS.length] as string
        const [learned, projected] = splitAt(part.line, cutoffTime.value)
        const twin = stage.twin[i]
        const series: LaneSeries[] = [
          ...(twin
            ? [
                {
                  label: `${part.name}, ${stage.twin_name}`,
                  points: twin.line,
                  color: 'var(--ink-3)',
                  width: 1.5,
                  dash: [2, 3],
                },
              ]
            : []),
          { label: part.name, points: learned, color: paint, width: 1.5 },
          { label: `${part.name}, projected`, points: projected, color: paint, width: 1.5, dash: [5, 3] },
        ]
        const share =
          i === 0 && stage.variance_share !== null
            ? `takes ${fixed(stage.variance_share * 100, 1)} % of variance`
            : ''
        const against = twin ? `dotted: ${stage.twin_name}` : ''
        return { stage, name: part.name, note: [share, against].filter(Boolean).join(' · '), series }
      })
    })
  })
}
