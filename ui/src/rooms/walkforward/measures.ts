import type { Shapes } from '../../api/client'

type Measure = Shapes['MetricView']

/** Which values of a measure are good. */
export function direction(metric: Measure) {
  if (metric.nominal !== null)
    return metric.unit === 'share' ? `near ${Number((metric.nominal * 100).toFixed(4))} %` : 'near 0'
  return metric.larger ? 'the larger, the better' : 'the smaller, the better'
}

/** Formula, direction and source of a measure. */
export const explained = (metric: Measure) => `${metric.formula}; ${direction(metric)}. ${metric.source}`
