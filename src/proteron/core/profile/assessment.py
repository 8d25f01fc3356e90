"""All tests of one series, what they say together, and what they suggest to do about it."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from proteron.core.errors import ProteronError
from proteron.core.panel import Floats
from proteron.core.powers.box_cox import box_cox_lambda
from proteron.core.profile.break_tests import cusum
from proteron.core.profile.hypothesis_tests import TestResult, ljung_box, stationarity, unit_root, unit_root_hac
from proteron.core.profile.residual_tests import arch_lm, breusch_pagan, jarque_bera, runs_test
from proteron.core.profile.seasonal_tests import seasonal_stability
from proteron.core.profile.shape import SpreadByLevel, spread_by_level
from proteron.core.profile.strengths import Strengths

_STRONG = 0.64  # a season as strong as this wants differencing or taking out (Wang, Smith & Hyndman 2006)
_WORTH = 0.3
TESTED = 4000  # the last known points that tests and periods look at


@dataclass(frozen=True)
class Suggestion:
    """A stage worth adding, and why; nothing is ever done with it silently."""

    why: str
    stage: dict[str, Any]


@dataclass(frozen=True)
class Assessment:
    """Every test that could be run, why others could not, and the joint verdict in words."""

    tests: tuple[TestResult, ...]
    refused: dict[str, str]
    verdict: str


def run_tests(values: Floats, season: int) -> Assessment:
    """All tests on the known points of one series (n_points,), lags and cycles by its `season`."""
    count = int(np.isfinite(values).sum())
    lags = max(1, min(2 * season if season > 1 else 10, count // 5))
    tests: dict[str, Callable[[], TestResult]] = {
        "unit root": lambda: unit_root(values),
        "unit root, corrected": lambda: unit_root_hac(values),
        "stationarity": lambda: stationarity(values),
        "stationarity around a line": lambda: stationarity(values, trend="linear"),
        "stable season": lambda: seasonal_stability(values, season),
        "whiteness": lambda: ljung_box(values, lags),
        "runs": lambda: runs_test(values),
        "normality": lambda: jarque_bera(values),
        "volatility": lambda: arch_lm(values, max(1, min(season, 12, count // 10))),
        "even spread": lambda: breusch_pagan(values),
        "break": lambda: cusum(values),
    }
    if not 2 <= season <= 24:
        del tests["stable season"]
    done, refused = [], {}
    for name, test in tests.items():
        try:
            done.append(test())
        except ProteronError as error:
            refused[name] = error.message
    by_name = {test.name: test for test in done}
    if {"unit root", "stationarity"} <= by_name.keys():
        stable = by_name.get("stable season")
        wandering = stable is not None and stable.rejected
        verdict = joint_verdict(by_name["unit root"], by_name["stationarity"], season if wandering else None)
    else:
        verdict = "Too few known points to test."
    return Assessment(tuple(done), refused, verdict)


def joint_verdict(root: TestResult, level: TestResult, wandering_season: int | None = None) -> str:
    """What the unit-root and the stationarity test say together, and a season whose figure wanders."""
    if np.isnan(root.p_value) or np.isnan(level.p_value):
        return "Nothing varies: nothing to say."
    if wandering_season is not None:
        at = f"difference it once at lag {wandering_season}"
        if not root.rejected and level.rejected:
            return f"Both agree: not flat yet, and the season wanders: {at}."
        return f"The season wanders: {at}."
    if root.rejected and not level.rejected:
        return "Both agree: flat enough to learn from."
    if not root.rejected and level.rejected:
        return "Both agree: not flat yet; difference it once or take out a trend."
    if root.rejected:
        return "They disagree: it returns to a level that moves; take out a trend or a season."
    return "They disagree: too little to tell."


def suggest(
    values: Floats, assessment: Assessment, found: Strengths, level_spread: SpreadByLevel, season: int
) -> list[Suggestion]:
    """Stages worth adding, in the order they would stand in a chain."""
    known = values[np.isfinite(values)]
    out: list[Suggestion] = []
    tests = {test.name: test for test in assessment.tests}
    if level_spread.grows:
        out.append(_transform(known, level_spread))
    seasons = [period for period, strength in found.seasons.items() if strength >= _WORTH]
    if seasons:
        strong = ", ".join(f"{period} ({found.seasons[period]:.2f})" for period in seasons)
        why = f"Seasons of {strong} are strong; taken out with the trend, spikes cannot bend them."
        out.append(Suggestion(why, {"kind": "loess_seasons", "periods": seasons, "robust": True}))
    stable = tests.get("stable season")
    if stable is not None and stable.rejected and found.seasons.get(season, 0.0) >= _STRONG:
        out.append(Suggestion(stable.verdict, {"kind": "seasonal_difference", "period": season}))
    if not seasons:
        out += _against_trend(tests, found.trend)
    spread = tests.get("even spread")
    if spread is not None and spread.rejected and not level_spread.grows:
        out.append(Suggestion(spread.verdict, {"kind": "period_spread", "period": "year"}))
    return out


def _against_trend(tests: dict[str, TestResult], trend: float) -> list[Suggestion]:
    """A line where the trend is strong, a difference where the series does not return."""
    root, out = tests.get("unit root"), []
    if root is None:
        return []
    if trend >= _STRONG and "break" in tests and tests["break"].rejected:
        why = f"The trend is strong ({trend:.2f}) and its line breaks."
        out.append(Suggestion(why, {"kind": "piecewise_trend", "robust": True}))
    elif trend >= _STRONG:
        why = f"The trend is strong ({trend:.2f}); a robust line is not bent by spikes."
        out.append(Suggestion(why, {"kind": "linear_trend", "method": "tukey"}))
    if not np.isnan(root.p_value) and not root.rejected:
        out.append(Suggestion(root.verdict, {"kind": "seasonal_difference", "period": 1}))
    return out


def _transform(known: Floats, level_spread: SpreadByLevel) -> Suggestion:
    why = level_spread.verdict
    if known.min() > 0:
        return Suggestion(
            why,
            {"kind": "log"} if (level_spread.slope or 0.0) > 0.75 else {"kind": "box_cox", "exponent": "likelihood"},
        )
    if known.min() == 0:
        return Suggestion(f"{why} There are zeros.", {"kind": "log1p"})
    return Suggestion(f"{why} There are negative values.", {"kind": "yeo_johnson"})


def transform_advice(values: Floats, block: int) -> tuple[str, float | None]:
    """A transform by name, or "none", and the Box–Cox exponent where values are positive."""
    known = values[np.isfinite(values)]
    exponent = float(box_cox_lambda(known[-TESTED:])) if len(known) >= 8 and known.min() > 0 else None
    level_spread = spread_by_level(values, block)
    kind = str(_transform(known, level_spread).stage["kind"]) if level_spread.grows else "none"
    return kind, exponent
