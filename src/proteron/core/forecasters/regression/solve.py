"""Least squares with its table, and its penalised, robust and quantile kin."""

from dataclasses import dataclass

import numpy as np
from scipy import linalg, optimize, special

from proteron.core.compiled import kernel
from proteron.core.errors import SettingsError, TooShortError
from proteron.core.panel import Floats

_ILL = 1e3
_DEPENDENT = 1e-14
_REFINEMENTS = 4
_HUBER, _TUKEY = 1.345, 4.685


@dataclass(frozen=True)
class LeastSquares:
    """Coefficients (k,) with the table that belongs to them.

    `covariance` (k, k) of the coefficients; `inflation` (k,) variance inflation by the other columns, 1 for an
    intercept; `variance` of the residuals, unbiased; `left` degrees of freedom.
    """

    coefficients: Floats
    covariance: Floats
    inflation: Floats
    residuals: Floats
    variance: float
    left: int

    @property
    def errors(self) -> Floats:
        """Standard errors of the coefficients."""
        return np.sqrt(np.maximum(np.diag(self.covariance), 0.0))

    @property
    def t_values(self) -> Floats:
        """Coefficients over their errors."""
        return np.asarray(self.coefficients / np.where(self.errors > 0, self.errors, np.nan))

    @property
    def p_values(self) -> Floats:
        """Chances of so large t values where there is nothing."""
        return np.asarray(2 * special.stdtr(max(self.left, 1), -np.abs(self.t_values)))


def least_squares(design: Floats, target: Floats, robust_lags: int | None = None) -> LeastSquares:
    """Ordinary least squares of `target` (n,) on `design` (n, k), by QR of columns of unit length.

    Where the columns are nearly dependent, the solution is refined with residuals in extended precision (Björck 1967).
    `robust_lags` makes the covariance robust to autocorrelation up to so many lags (Newey & West 1987). Raises
    `SettingsError` where columns say exactly the same.
    """
    count, width = design.shape
    if count <= width:
        raise TooShortError(f"{width} coefficients need more than {count} complete rows.", field="formula")
    lengths = np.sqrt((design**2).sum(axis=0))
    if not (lengths > 0).all():
        raise SettingsError(f"Column {int(np.flatnonzero(~(lengths > 0))[0]) + 1} is zero throughout.", field="formula")
    unit = design / lengths
    orthogonal, upper = linalg.qr(unit, mode="economic", check_finite=False)
    diagonal = np.abs(np.diag(upper))
    if diagonal.min() <= _DEPENDENT * diagonal.max():
        raise SettingsError("Some columns are sums of others: take one of them out.", field="formula")
    scaled = linalg.solve_triangular(upper, orthogonal.T @ target, check_finite=False)
    if diagonal.max() / diagonal.min() > _ILL:
        scaled = _refined(design, lengths, target, orthogonal, upper, scaled)
    coefficients = scaled / lengths
    residuals = np.asarray(
        (target.astype(np.longdouble) - design.astype(np.longdouble) @ coefficients.astype(np.longdouble)).astype(float)
        if diagonal.max() / diagonal.min() > _ILL
        else target - design @ coefficients
    )
    left = count - width
    variance = float((residuals**2).sum() / left)
    inverse = linalg.solve_triangular(upper, np.eye(width), check_finite=False)
    spread = inverse @ inverse.T / np.outer(lengths, lengths)
    covariance = variance * spread
    if robust_lags is not None:
        covariance = _robust_covariance(design, residuals, spread, robust_lags) * count / left
    centred = design - design.mean(axis=0)
    apart = (centred**2).sum(axis=0)
    inflation = np.where(apart > 1e-20 * lengths**2, np.diag(spread) * apart, 1.0)
    return LeastSquares(coefficients, covariance, inflation, residuals, variance, left)


def _refined(
    design: Floats, lengths: Floats, target: Floats, orthogonal: Floats, upper: Floats, scaled: Floats
) -> Floats:
    """Corrections from the augmented system, its residuals in extended precision."""
    exact = design.astype(np.longdouble) / lengths.astype(np.longdouble)
    aim = target.astype(np.longdouble)
    solution = scaled.astype(np.longdouble)
    rest = aim - exact @ solution
    for _ in range(_REFINEMENTS):
        off = (aim - rest - exact @ solution).astype(float)
        slope = (-(exact.T @ rest)).astype(float)
        # | I  A | |dr|   |off  |
        # | Aᵀ 0 | |dx| = |slope|
        half = linalg.solve_triangular(upper.T, slope, lower=True, check_finite=False)
        inside = orthogonal.T @ off
        step = linalg.solve_triangular(upper, inside - half, check_finite=False)
        rest = rest + off - orthogonal @ (inside - half)
        solution = solution + step
    return solution.astype(float)


def _robust_covariance(design: Floats, residuals: Floats, spread: Floats, lags: int) -> Floats:
    scores = design * residuals[:, None]
    middle = scores.T @ scores
    for lag in range(1, min(lags, len(scores) - 1) + 1):
        shared = scores[lag:].T @ scores[:-lag]
        middle += (1 - lag / (lags + 1)) * (shared + shared.T)
    return np.asarray(spread @ middle @ spread)


def robust_fit(design: Floats, target: Floats, loss: str) -> LeastSquares:
    """M-estimates by reweighting, Huber's or Tukey's loss, the scale from absolute deviations (Huber 1981, ch. 7)."""
    fitted = least_squares(design, target)
    weights = np.ones(len(target))
    scale = 1.0
    for rounds in range(200):
        scale = max(1.4826 * float(np.median(np.abs(fitted.residuals))), 1e-300)
        far = np.abs(fitted.residuals) / scale
        if loss == "huber" or rounds < 20:  # Tukey's loss needs a robust start
            weights = np.where(far <= _HUBER, 1.0, _HUBER / np.maximum(far, 1e-300))
        else:
            weights = np.where(far < _TUKEY, (1 - (far / _TUKEY) ** 2) ** 2, 0.0)
        root = np.sqrt(np.maximum(weights, 1e-12))
        again = least_squares(design * root[:, None], target * root)
        moved = np.abs(again.coefficients - fitted.coefficients).max()
        size = np.abs(again.coefficients).max()
        fitted = LeastSquares(
            again.coefficients, again.covariance, again.inflation, target - design @ again.coefficients,
            scale**2, again.left,
        )  # fmt: skip
        if rounds > 20 and moved <= 1e-10 * max(size, 1e-300):
            break
    return fitted


def quantile_fit(design: Floats, target: Floats, level: float) -> Floats:
    """Coefficients (k,) of the `level` quantile, by linear programming (Koenker & Bassett 1978)."""
    count, width = design.shape
    unit = np.maximum(np.abs(design).max(axis=0), 1e-300)
    size = max(float(np.abs(target).max()), 1e-300)
    costs = np.concatenate([np.zeros(width), np.full(count, level), np.full(count, 1 - level)])
    both = np.hstack([design / unit, np.eye(count), -np.eye(count)])
    bounds = [(None, None)] * width + [(0, None)] * (2 * count)
    found = optimize.linprog(costs, A_eq=both, b_eq=target / size, bounds=bounds, method="highs")
    if not found.success:
        raise TooShortError("The quantile regression did not settle.", field="loss")
    return np.asarray(found.x[:width] * size / unit)


@kernel
def coordinate_path(
    gram: Floats, right: Floats, strengths: Floats, share: float, tolerance: float, most: int
) -> Floats:  # fmt: skip
    """Elastic-net coefficients (n_strengths, k) along falling strengths, each beginning where the last one ended.

    Minimises ½ bᵀ gram b - rightᵀ b + strength (share |b|₁ + ½ (1 - share) |b|²), columns of unit variance and `gram`
    over the number of rows (Friedman, Hastie & Tibshirani 2010).
    """
    width = len(right)
    out = np.zeros((len(strengths), width))
    now, pull = np.zeros(width), right.copy()
    for place in range(len(strengths)):
        flat, even = strengths[place] * share, strengths[place] * (1.0 - share)
        for _ in range(most):
            moved = 0.0
            for j in range(width):
                before = now[j]
                wish = pull[j] + gram[j, j] * before
                if wish > flat:
                    now[j] = (wish - flat) / (gram[j, j] + even)
                elif wish < -flat:
                    now[j] = (wish + flat) / (gram[j, j] + even)
                else:
                    now[j] = 0.0
                step = now[j] - before
                if step != 0.0:
                    for i in range(width):
                        pull[i] -= gram[i, j] * step
                    moved = max(moved, abs(step))
            if moved < tolerance:
                break
        out[place] = now
    return out
