import type { Shapes } from '../../api/client'

/** An outlook as it is asked for unless somebody says otherwise. */
export const asUsual = (contender: string): Shapes['NewOutlook'] => ({
  contender,
  horizon: null,
  until: null,
  to: null,
  ahead: 'given',
  levels: null,
  ranges: 'errors',
  floor: null,
  ceiling: null,
  whole: false,
  paths: 1000,
  joint: true,
  seed: null,
})
