"""Window plans to begin with, each with the reason that lies in the series itself."""

from dataclasses import dataclass

import numpy as np

from proteron.core.panel import Panel
from proteron.core.profile.correlogram import pacf
from proteron.core.profile.spectrum import Candidate, candidate_periods
from proteron.core.timeline import CalendarField
from proteron.core.windows.covariates import CovariateSteps
from proteron.core.windows.fourier import Fourier
from proteron.core.windows.plan import CALENDAR_OF_STEP, WindowPlan
from proteron.core.windows.rolling import Rolling
from proteron.core.windows.whole_past import Weighted

_MOST_LAGS = 48


@dataclass(frozen=True)
class PlanPreset:
    """A plan with a name and a sentence that says why it may suit this series."""

    title: str
    reason: str
    plan: WindowPlan


def plan_presets(
    panel: Panel, index: int, until: int | None = None, horizon: tuple[int, ...] = (1,)
) -> list[PlanPreset]:
    """Plans for one series, from what it shows up to grid position `until`; none needs a quarter of its length.

    Short memory, the cycles found, a few wide summaries, and covariates that are known ahead.
    """
    known = panel.select([index]).cut_at(until)
    values = known.series(0)
    room = max(len(values) // 4, 1)
    calendar = CALENDAR_OF_STEP.get(panel.axis.step.unit, ())
    found = [each for each in candidate_periods(values, expected=panel.axis.step.seasons) if round(each.period) <= room]
    presets = [_short(values, room, horizon)]
    if found:
        presets.append(_one_cycle(found[0], room, horizon, calendar))
    if len(found) > 1:
        presets.append(_two_cycles(found, room, horizon, calendar))
    if room >= 16:
        presets.append(_few_and_wide(room, horizon, calendar))
    ahead = [each.name for each in panel.covariates if each.role == "known_ahead"]
    if ahead:
        base = presets[-2 if room >= 16 else -1].plan
        steps = tuple(CovariateSteps(column=name, at=(0, *horizon[:_MOST_LAGS])) for name in ahead)
        names = ", ".join(f"“{name}”" for name in ahead[:3])
        presets.append(
            PlanPreset(
                "With what is known ahead", f"{names} {'is' if len(ahead) == 1 else 'are'} known beyond the cutoff.",
                base.model_copy(update={"covariates": steps}),
            )
        )  # fmt: skip
    return presets


def _short(values: np.ndarray, room: int, horizon: tuple[int, ...]) -> PlanPreset:
    present = values[np.isfinite(values)]
    most = min(_MOST_LAGS, room, max(len(present) // 2 - 1, 1))
    partial = np.zeros(1)
    if len(present) >= 8 and present.std() > 0:
        partial = np.asarray(pacf(values, most))[1:]
    beyond = np.flatnonzero(np.abs(partial) > 1.96 / np.sqrt(max(len(present), 1)))
    first_quiet = int(np.setdiff1d(np.arange(len(partial) + 1), beyond)[0])
    last = max(first_quiet, min(3, room))
    reason = (
        f"The partial autocorrelation leaves its band at every lag up to {first_quiet}."
        if first_quiet
        else "No partial autocorrelation leaves its band at lag 1: the last few points are a start."
    )
    return PlanPreset("Last points", reason, WindowPlan(lags=range(1, last + 1), horizon=horizon))


def _cycle_words(each: Candidate) -> str:
    return f"{each.period:.4g} steps ({each.share:.0%} of the variance, autocorrelation {each.correlation:.2f})"


def _lags_of(cycles: list[int], room: int) -> list[int]:
    """Every lag of the shortest cycle, or its first 48, and the surroundings of whole cycles."""
    lags = set(range(1, min(cycles[0], _MOST_LAGS, room) + 1))
    for length in cycles:
        lags |= {lag for lag in (length - 1, length, length + 1) if 1 <= lag <= room}
    return sorted(lags)


def _one_cycle(
    cycle: Candidate, room: int, horizon: tuple[int, ...], calendar: tuple[CalendarField, ...]
) -> PlanPreset:  # fmt: skip
    length = round(cycle.period)
    rolling = (Rolling("mean", length), Rolling("std", length)) if length > 1 else ()
    plan = WindowPlan(lags=_lags_of([length], room), rolling=rolling, calendar=calendar[:1], horizon=horizon)
    return PlanPreset("One cycle", f"The strongest cycle found has {_cycle_words(cycle)}.", plan)


def _two_cycles(
    found: list[Candidate], room: int, horizon: tuple[int, ...], calendar: tuple[CalendarField, ...]
) -> PlanPreset:  # fmt: skip
    two = sorted(found[:2], key=lambda each: each.period)
    lengths = [round(each.period) for each in two]
    rolling = [Rolling(statistic, length) for length in lengths if length > 1 for statistic in ("mean", "std")]
    waves = (Fourier(period=two[1].period, order=3),) if two[1].period >= 24 else ()
    plan = WindowPlan(
        lags=_lags_of(lengths, room), rolling=rolling, calendar=calendar, more=waves, horizon=horizon
    )  # fmt: skip
    return PlanPreset("Two cycles", f"Two cycles were found: {_cycle_words(two[0])} and {_cycle_words(two[1])}.", plan)


def _few_and_wide(room: int, horizon: tuple[int, ...], calendar: tuple[CalendarField, ...]) -> PlanPreset:
    widths = [width for width in (4, 16, 64, 256) if width <= room]
    plan = WindowPlan(
        lags=(1,), rolling=[Rolling(statistic, width) for width in widths for statistic in ("mean", "std")],
        calendar=calendar, more=(Weighted(half_life=float(widths[0])),), horizon=horizon,
    )  # fmt: skip
    count = len(plan.names)
    return PlanPreset("Few and wide", f"{count} columns reach {widths[-1]} points back: little to overfit.", plan)
