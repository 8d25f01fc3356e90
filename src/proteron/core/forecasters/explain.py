"""What was learned, as pictures and checks."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

import numpy as np
from scipy import special

from proteron.core.errors import ProteronError
from proteron.core.panel import Floats
from proteron.core.profile.hypothesis_tests import TestResult, ljung_box
from proteron.core.profile.residual_tests import arch_lm, jarque_bera

if TYPE_CHECKING:
    from proteron.core.forecasters.contender import FittedContender

_CHECKED = 3000


@dataclass(frozen=True)
class Curve:
    """One line or cloud of a picture, x and y (n,) each."""

    label: str
    x: Floats
    y: Floats
    kind: Literal["line", "points"] = "line"


@dataclass(frozen=True)
class Picture:
    title: str
    x_label: str
    curves: tuple[Curve, ...]
    marks: tuple[tuple[float, str], ...] = ()


def residual_checks(fitted: "FittedContender", key: str) -> list[tuple[str, TestResult]]:
    """Whether one-step residuals inside what is known are white, without a season, normal, and of even spread.

    Of the last 3,000 points at most; what cannot be tested is left out.
    """
    one = fitted.known.select([fitted.known.index(key)])
    first, last = int(one.starts[0]), int(one.starts[0] + one.lengths[0])
    origins = np.arange(max(first, last - _CHECKED), last)
    means = fitted.means(one, origins, 1)[0][0, :, 0]
    rest = one.series(0)[origins - first] - means
    rest = rest[np.isfinite(rest)]
    season = one.axis.step.season
    lags = max(min(2 * season if season > 1 else 10, len(rest) // 5), 1)
    checks = []
    tests: tuple[tuple[str, Callable[[], TestResult]], ...] = (
        ("no memory left", lambda: ljung_box(rest, lags)),
        ("no season left", lambda: _seasonal(rest, season)),
        ("normal", lambda: jarque_bera(rest)),
        ("even spread", lambda: arch_lm(rest, min(12, max(len(rest) // 10, 1)))),
    )
    for what, test in tests:
        try:
            checks.append((what, test()))
        except (ProteronError, ValueError, ZeroDivisionError, np.linalg.LinAlgError):
            continue
    return checks


def _seasonal(rest: Floats, season: int) -> TestResult:
    """The portmanteau of autocorrelations at whole cycles alone."""
    if season < 2 or len(rest) < 4 * season:
        raise ValueError("no season")
    apart = rest - rest.mean()
    total = float((apart**2).sum())
    at = [season * k for k in range(1, min(3, len(rest) // (2 * season)) + 1)]
    correlations = np.array([float((apart[k:] * apart[:-k]).sum()) / total for k in at])
    count = len(rest)
    statistic = count * (count + 2) * float((correlations**2 / (count - np.array(at))).sum())
    p = float(special.chdtrc(len(at), statistic))
    verdict = "a season of the step is left" if p < 0.05 else "no season of the step is left"
    return TestResult("seasonal portmanteau", statistic, p, at[-1], "no season is left", verdict)
