/** What information criteria are called. */
export const NAMES: Record<string, string> = {
  loglik: 'log-likelihood',
  aic: 'AIC',
  aicc: 'AICc',
  bic: 'BIC',
  r_squared: 'R² in sample',
}
