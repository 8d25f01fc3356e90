import type { Shapes } from '../../api/client'

/** Ways to fill a gap, in words. */
export const FILL_METHODS: [Shapes['Filling']['method'], string][] = [
  ['leave', 'leave missing'],
  ['carry_last', 'carry the last value'],
  ['linear', 'straight line'],
  ['seasonal', 'same phase before'],
  ['seasonal_level', 'same phase, at this level'],
  ['moving_average', 'mean of the last points'],
  ['flattened', 'line on the flattened series'],
  ['zero', 'zero'],
]
