"""What was learned, as pictures and checks."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy import special

from proteron.core.errors import ProteronError
from proteron.core.forecasters.contender import FittedContender
from proteron.core.forecasters.pictures import Curve, Picture
from proteron.core.panel import Floats, Panel
from proteron.core.profile.hypothesis_tests import TestResult, ljung_box
from proteron.core.profile.residual_tests import arch_lm, jarque_bera
from proteron.core.timeline import Ints

_CHECKED = 3000
_DRAWN = 500
_PATHS = 300


@dataclass(frozen=True)
class OneStep:
    """Forecasts one step ahead of one series, by a contender that learned up to a cutoff: inside it, and after it.

    `places` are grid positions (n,), `observed` and `forecast` (n,) what was and what was expected, both known; `flat`
    (n,) what the forecast was off by behind the chain, in its units.
    """

    places: Ints
    observed: Floats
    forecast: Floats
    cutoff: int
    flat: Floats

    @property
    def residuals(self) -> Floats:
        """Observed minus forecast, (n,)."""
        return self.observed - self.forecast

    def error(self, after: bool, flat: bool = False) -> float:
        """Root mean square of the residuals inside what was learned, or after it; NaN where there are none."""
        rest = (self.flat if flat else self.residuals)[(self.places >= self.cutoff) == after]
        return float(np.sqrt((rest**2).mean())) if len(rest) else float("nan")

    @property
    def error_of_last_value(self) -> float:
        """As `error` after the cutoff, of the value one step before, where that is known."""
        steps = (np.diff(self.places) == 1) & (self.places[1:] >= self.cutoff)
        rest = np.diff(self.observed)[steps]
        return float(np.sqrt((rest**2).mean())) if len(rest) else float("nan")


def one_step(fitted: FittedContender, panel: Panel, key: str, start: int, stop: int) -> OneStep:
    """From the last 3,000 points learned, `start` first, to the grid position `stop` after the cutoff."""
    keys = fitted.state.keys if fitted.contender.forecaster.joint else (key,)
    one = panel.select([panel.index(each) for each in keys]).between(start, stop)
    index = one.index(key)
    first, last = int(one.starts[index]), int(one.starts[index] + one.lengths[index])
    places = np.arange(max(first, min(fitted.until, last) - _CHECKED), last)
    mean, flat = (each[index, :, 0] for each in fitted.means(one, places, 1))
    observed, behind = (each.series(index)[places - first] for each in (one, fitted.chain.apply(one)))
    known = np.isfinite(observed) & np.isfinite(mean)
    return OneStep(places[known], observed[known], mean[known], fitted.until, (behind - flat)[known])


def fit_pictures(steps: OneStep) -> list[Picture]:
    """Actual values against forecasts, and residuals in time, inside what was learned and after it."""
    if len(steps.places) < 3:
        return []
    after = steps.places >= steps.cutoff
    against, rest = [], []
    for label, mine in (("learned", ~after), ("after the cutoff", after)):
        at = np.flatnonzero(mine)
        at = at[np.unique(np.linspace(0, len(at) - 1, min(len(at), _DRAWN)).astype(int))] if len(at) else at
        if len(at):
            against.append(Curve(label, steps.forecast[at], steps.observed[at], "points"))
            rest.append(Curve(label, (steps.places[at] - steps.cutoff).astype(float), steps.residuals[at], "points"))
    ends = np.array([steps.forecast.min(), steps.forecast.max()])
    return [
        Picture("Actual against forecast, one step ahead", "forecast", (Curve("equal", ends, ends), *against)),
        Picture("Residuals, one step ahead", "steps from the cutoff", tuple(rest), ((0.0, "cutoff"),)),
    ]


def joint_picture(fitted: FittedContender, panel: Panel, key: str, start: int, horizon: int) -> Picture | None:
    """Where flat paths of this series and the one it goes with most end, drawn together and drawn apart."""
    together = fitted.state.arrays.get("together")
    keys = fitted.state.keys
    if together is None or len(keys) < 2:
        return None
    learner, row = fitted.contender.forecaster, fitted.state.row(key)
    with_me = np.where(np.arange(len(keys)) == row, 0.0, np.abs(np.nan_to_num(together[row])))
    if not with_me.max() > 0:
        return None
    partner = keys[int(np.argmax(with_me))]
    both = panel.select([panel.index(key), panel.index(partner)]).between(start, fitted.until)
    flat = fitted.chain.apply(both.learnable())
    joint = learner.simulate(fitted.state, flat, fitted.until, horizon, _PATHS, 0)
    apart = [learner.simulate(fitted.state, flat.select([i]), fitted.until, horizon, _PATHS, 1 + i) for i in (0, 1)]
    ends = [None if each is None else each[:, 0, -1] for each in apart]
    if joint is None or ends[0] is None or ends[1] is None or not np.isfinite([*ends, *joint[:, :, -1].T]).all():
        return None
    correlation = float(together[row, fitted.state.row(partner)])
    title = f"Paths {horizon} steps on, with {partner}"
    label = f"joint, errors correlate by {correlation:.2f}"
    clouds = (("independent", ends[0], ends[1]), (label, joint[:, 0, -1], joint[:, 1, -1]))
    return Picture(title, f"flat {key}", tuple(Curve(label, x, y, "points") for label, x, y in clouds))


def residual_checks(steps: OneStep, season: int, after: bool = False) -> list[tuple[str, TestResult]]:
    """Whether residuals inside what was learned, or `after` it, are white, without a season, normal, of even spread.

    What cannot be tested is left out.
    """
    rest = steps.residuals[(steps.places >= steps.cutoff) == after]
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
