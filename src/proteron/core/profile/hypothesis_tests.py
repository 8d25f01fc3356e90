"""Tests for a unit root, for stationarity and for whiteness, with verdicts in words."""

from dataclasses import dataclass, field
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike
from scipy import special

from proteron.core.errors import SettingsError, TooShortError
from proteron.core.panel import Floats
from proteron.core.profile.correlogram import acf

Trend = Literal["none", "constant", "linear"]

# MacKinnon 2010, table 2 (one variable): critical values b0 + b1/T + b2/T² + b3/T³.
_CRITICAL = {
    "none": {"1%": (-2.56574, -2.2358, -3.627, 0.0), "5%": (-1.94100, -0.2686, -3.365, 31.223),
             "10%": (-1.61682, 0.2656, -2.714, 25.364)},
    "constant": {"1%": (-3.43035, -6.5393, -16.786, -79.433), "5%": (-2.86154, -2.8903, -4.234, -40.040),
                 "10%": (-2.56677, -1.5384, -2.809, 0.0)},
    "linear": {"1%": (-3.95877, -9.0531, -28.428, -134.155), "5%": (-3.41049, -4.3904, -9.036, -45.374),
               "10%": (-3.12705, -2.5856, -3.925, -22.380)},
}  # fmt: skip
# MacKinnon 1994, tables 3 and 4: normal quantile of p as a polynomial of the statistic, below and
# above a border, and the range outside which p is 0 or 1.
_SMALL_P = {
    "none": (0.6344, 1.2378, 0.032496), "constant": (2.1659, 1.4412, 0.038269), "linear": (3.2512, 1.6047, 0.049588),
}  # fmt: skip
_LARGE_P = {
    "none": (0.4797, 0.93557, -0.06999, 0.033066), "constant": (1.7339, 0.93202, -0.12745, -0.010368),
    "linear": (2.5261, 0.61654, -0.37956, -0.060285),
}  # fmt: skip
_BORDER = {"none": -1.04, "constant": -1.61, "linear": -2.89}
_LOWEST = {"none": -19.04, "constant": -18.83, "linear": -16.18}
_HIGHEST = {"none": np.inf, "constant": 2.74, "linear": 0.70}
# Kwiatkowski et al. 1992, table 1.
_KPSS = {"constant": (0.347, 0.463, 0.574, 0.739), "linear": (0.119, 0.146, 0.176, 0.216)}
_KPSS_P = (0.10, 0.05, 0.025, 0.01)
_ROOT = "there is a unit root: shocks last for ever"
_T_TEN_PERCENT = 1.645


@dataclass(frozen=True)
class TestResult:
    """Outcome of a test: statistic, p-value, lags used, critical values, null and verdict in words."""

    __test__ = False  # not a pytest class

    name: str
    statistic: float
    p_value: float
    lags: int
    null: str
    verdict: str
    critical: dict[str, float] = field(default_factory=dict)

    @property
    def rejected(self) -> bool:
        """Whether the null is rejected at 5 %."""
        return self.p_value < 0.05


def known_values(x: ArrayLike, needed: int, what: str) -> Floats:
    """The values that are not missing; raises `TooShortError` below `needed` of them."""
    values = np.asarray(x, dtype=np.float64).ravel()
    values = values[np.isfinite(values)]
    if len(values) < needed:
        raise TooShortError(f"{what} needs {needed} known points; there are {len(values)}.")
    return values


def _columns(count: int, trend: Trend) -> Floats:
    columns = {"none": [], "constant": [np.ones(count)], "linear": [np.ones(count), np.arange(1.0, count + 1)]}
    if trend not in columns:
        raise SettingsError(f"The trend is none, constant or linear, not “{trend}”.", field="trend")
    return np.column_stack(columns[trend]) if columns[trend] else np.empty((count, 0))


def _regress(y: Floats, x: Floats) -> tuple[Floats, Floats, float]:
    """Coefficients, their standard errors and the residual sum of squares of least squares."""
    q, r = np.linalg.qr(x)
    weights = np.linalg.lstsq(r, q.T @ y, rcond=None)[0]
    rss = float(((y - x @ weights) ** 2).sum())
    inverse = np.linalg.pinv(r)
    variance = rss / max(len(y) - x.shape[1], 1)
    return weights, np.sqrt(variance * (inverse**2).sum(axis=1)), rss


def _unit_root_design(values: Floats, lags: int, trim: int, trend: Trend) -> tuple[Floats, Floats]:
    """Differences and regressors (level, lagged differences, trend) with `trim` differences left out first."""
    changes = np.diff(values)
    y = changes[trim:]
    lagged = [changes[trim - k : len(changes) - k] for k in range(1, lags + 1)]
    return y, np.column_stack([values[trim:-1], *lagged, _columns(len(y), trend)])


def unit_root(x: ArrayLike, trend: Trend = "constant", lags: int | Literal["aic", "bic", "t"] = "aic") -> TestResult:
    """Augmented Dickey–Fuller test (Dickey & Fuller 1979; Said & Dickey 1984).

    The lag order is given, or chosen up to 12 (n/100)^¼ (Schwert 1989) by a criterion, or ("t") as the
    longest lag that is significant at 10 % (Ng & Perron 1995). P-values after
    MacKinnon 1994, finite-sample critical values after MacKinnon 2010.
    """
    values = known_values(x, 8, "The unit-root test")
    if np.ptp(values) <= 1e-12 * max(1.0, np.abs(values).max()):
        return TestResult("unit root", np.nan, np.nan, 0, _ROOT, "Constant series: nothing to test.")
    width = _columns(1, trend).shape[1]
    if isinstance(lags, str):
        if lags not in ("aic", "bic", "t"):
            raise SettingsError(f"Lags are a number, “aic”, “bic” or “t”, not “{lags}”.", field="lags")
        most = min(int(np.ceil(12 * (len(values) / 100) ** 0.25)), len(values) // 2 - width - 1)
        order = _best_order(values, max(most, 0), trend, lags)
    else:
        order = int(lags)
        if order < 0 or len(values) - 1 - order < width + order + 2:
            raise SettingsError(f"{order} lags do not fit {len(values)} points.", field="lags")
    y, design = _unit_root_design(values, order, order, trend)
    weights, errors, _ = _regress(y, design)
    statistic = float(weights[0] / errors[0]) if errors[0] > 0 else float("-inf")
    return _unit_root_result("unit root", statistic, order, len(y), trend)


def _unit_root_result(name: str, statistic: float, lags: int, count: int, trend: Trend) -> TestResult:
    p = _unit_root_p(statistic, trend)
    powers = (1.0 / count) ** np.arange(4)
    critical = {level: float(np.dot(surface, powers)) for level, surface in _CRITICAL[trend].items()}
    around = {"none": "zero", "constant": "its level", "linear": "its line"}[trend]
    verdict = (
        f"Unit root rejected: it returns to {around}."
        if p < 0.05
        else "Unit root not rejected: difference it, or take out a trend."
    )
    return TestResult(name, statistic, p, lags, _ROOT, verdict, critical)


def unit_root_hac(
    x: ArrayLike, trend: Trend = "constant", lags: int | Literal["short", "long"] = "short"
) -> TestResult:
    """Phillips & Perron 1988, Z_t: the plain regression, corrected for autocorrelation with Bartlett weights.

    "short" is 4 (n/100)^¼ lags, "long" 12 (n/100)^¼. P-values as for `unit_root`.
    """
    values = known_values(x, 8, "The unit-root test")
    if np.ptp(values) <= 1e-12 * max(1.0, np.abs(values).max()):
        return TestResult("unit root, corrected", np.nan, np.nan, 0, _ROOT, "Constant series: nothing to test.")
    y, design = _unit_root_design(values, 0, 0, trend)
    count = len(y)
    factor = {"short": 4, "long": 12}
    width = int(factor[lags] * (count / 100) ** 0.25) if isinstance(lags, str) else int(lags)
    if not 0 <= width < count:
        raise SettingsError(f"{width} lags do not fit {len(values)} points.", field="lags")
    weights, errors, rss = _regress(y, design)
    residuals = y - design @ weights
    products = [float(residuals[k:] @ residuals[: count - k]) / count for k in range(width + 1)]
    long_run = products[0] + 2 * sum((1 - k / (width + 1)) * products[k] for k in range(1, width + 1))
    if not (long_run > 0 and errors[0] > 0):
        return TestResult("unit root, corrected", np.nan, np.nan, width, _ROOT, "Nothing varies: nothing to test.")
    spread = np.sqrt(rss / max(count - design.shape[1], 1))
    plain = float(weights[0] / errors[0])
    shift = 0.5 * (long_run - products[0]) / np.sqrt(long_run) * count * errors[0] / spread
    statistic = float(np.sqrt(products[0] / long_run) * plain - shift)
    return _unit_root_result("unit root, corrected", statistic, width, count, trend)


def _best_order(values: Floats, most: int, trend: Trend, criterion: str) -> int:
    """Number of lagged differences; all orders are read off one factorisation of the longest regression."""
    y, design = _unit_root_design(values, most, most, trend)
    width = design.shape[1] - most
    nested = np.concatenate([design[:, :1], design[:, 1 + most :], design[:, 1 : 1 + most]], axis=1)
    q, _ = np.linalg.qr(nested)
    loadings = q.T @ y
    rest = np.maximum(float(y @ y) - np.cumsum(loadings**2)[width - 1 :], 1e-300)
    columns = width + np.arange(most + 1)
    if criterion == "t":
        for order in range(most, 0, -1):
            freedom = max(len(y) - columns[order], 1)
            # The last coefficient of a nested regression is its loading over the diagonal of R, either sign.
            if abs(loadings[width + order - 1]) / np.sqrt(rest[order] / freedom) > _T_TEN_PERCENT:
                return order
        return 0
    penalty = 2.0 if criterion == "aic" else np.log(len(y))
    return int(np.argmin(len(y) * np.log(rest / len(y)) + penalty * columns))


def _unit_root_p(statistic: float, trend: str) -> float:
    if statistic > _HIGHEST[trend]:
        return 1.0
    if statistic < _LOWEST[trend]:
        return 0.0
    surface = _SMALL_P[trend] if statistic <= _BORDER[trend] else _LARGE_P[trend]
    return float(special.ndtr(np.polyval(surface[::-1], statistic)))


def stationarity(x: ArrayLike, trend: Trend = "constant", lags: int | Literal["auto"] = "auto") -> TestResult:
    """Test of level or trend stationarity (Kwiatkowski, Phillips, Schmidt & Shin 1992).

    Bartlett weights; "auto" chooses the bandwidth after Hobijn, Franses & Ooms 1998. P-values are
    interpolated in the published table and held between 0.01 and 0.10.
    """
    values = known_values(x, 8, "The stationarity test")
    if trend not in _KPSS:
        raise SettingsError("Stationarity is tested around a constant or a linear trend.", field="trend")
    null = "the series is stationary around its " + ("level" if trend == "constant" else "line")
    name = "stationarity" if trend == "constant" else "stationarity around a line"
    count = len(values)
    design = _columns(count, trend)
    residuals = values - design @ np.linalg.lstsq(design, values, rcond=None)[0]
    if np.ptp(residuals) <= 1e-12 * max(1.0, np.abs(values).max()):
        return TestResult(name, np.nan, np.nan, 0, null, "Nothing varies: nothing to test.")
    width = _bandwidth(residuals) if lags == "auto" else int(lags)
    if not 0 <= width < count:
        raise SettingsError(f"{width} lags do not fit {count} points.", field="lags")
    products = [float(residuals[k:] @ residuals[: count - k]) / count for k in range(width + 1)]
    long_run = products[0] + 2 * sum((1 - k / (width + 1)) * products[k] for k in range(1, width + 1))
    statistic = float((np.cumsum(residuals) ** 2).sum() / count**2 / long_run)
    p = float(np.interp(statistic, _KPSS[trend], _KPSS_P))
    critical = dict(zip(("10%", "5%", "2.5%", "1%"), _KPSS[trend], strict=True))
    verdict = "Stationarity rejected: level or trend wanders." if p < 0.05 else "Stationarity not rejected."
    return TestResult(name, statistic, p, width, null, verdict, critical)


def _bandwidth(residuals: Floats) -> int:
    """Automatic Bartlett bandwidth (Hobijn, Franses & Ooms 1998, eq. 14 ff.)."""
    count = len(residuals)
    first = int(count ** (2 / 9))
    s0 = float(residuals @ residuals) / count
    s1 = 0.0
    for lag in range(1, first + 1):
        product = float(residuals[lag:] @ residuals[: count - lag]) / (count / 2)
        s0 += product
        s1 += lag * product
    power = 1.1447 * ((s1 / s0) ** 2) ** (1 / 3) if s0 != 0 else 0.0
    return min(int(power * count ** (1 / 3)), count - 1)


def ljung_box(x: ArrayLike, lags: int, fitted: int = 0) -> TestResult:
    """Whiteness of the first `lags` autocorrelations (Ljung & Box 1978).

    `fitted` is how many parameters were estimated; each costs a degree of freedom.
    """
    values = known_values(x, 4, "The whiteness test")
    if not 1 <= lags < len(values) or not 0 <= fitted < lags:
        raise SettingsError(
            f"{lags} lags with {fitted} fitted parameters do not fit {len(values)} points.", field="lags"
        )
    count = len(values)
    null = f"the first {lags} autocorrelations are zero"
    correlations = acf(values, lags)[1:]
    if np.isnan(correlations).any():
        return TestResult("whiteness", np.nan, np.nan, lags, null, "Constant series: nothing to test.")
    statistic = float(count * (count + 2) * (correlations**2 / (count - np.arange(1, lags + 1))).sum())
    p = float(special.chdtrc(lags - fitted, statistic))
    verdict = "Not white: something is left to learn." if p < 0.05 else "No autocorrelation found."
    return TestResult("whiteness", statistic, p, lags, null, verdict)
