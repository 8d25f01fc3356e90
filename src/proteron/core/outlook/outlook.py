"""The outlook: refitted on all that is known, with ranges from errors out of sample and joint paths."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import pairwise
from pathlib import Path
from typing import Any, Literal, get_args

import numpy as np
import pyarrow as pa
from scipy import special

from proteron.core.errors import SettingsError
from proteron.core.forecasters import Contender, FittedContender, Forecast
from proteron.core.forecasters.ahead import require_ahead
from proteron.core.forecasters.ranges import are_few
from proteron.core.judge import LEVELS, CellResult
from proteron.core.outlook.ahead import Ahead, continued
from proteron.core.outlook.chances import Chance, Peak, chance, in_stock, peak
from proteron.core.outlook.drawing import drawn
from proteron.core.outlook.errors import REHEARSED, PastErrors, errors_of, rehearsed, share_held
from proteron.core.outlook.fared import Fared, came, fared
from proteron.core.outlook.limits import Limits
from proteron.core.outlook.parts import part_errors_of, parts_of
from proteron.core.outlook.scenarios import Scenario
from proteron.core.outlook.sentences import Said, whole_paragraph, whole_sentence
from proteron.core.outlook.totals import How, Totals, totals
from proteron.core.panel import Floats, Panel, require_panel
from proteron.core.table_files import written
from proteron.core.timeline import Instants, Ints, Moment, Step, end_of_period

RangesBy = Literal["errors", "adaptive", "theory"]
MOST_PATHS, MOST_STEPS = 20_000, 100_000


@dataclass(frozen=True, repr=False)
class Outlook:
    """A final forecast of every series of `known` from `origin`, in original units.

    `mean` (n_series, horizon), ranges `lower` and `upper` by level, `paths` (n_paths, n_series, horizon) whose errors
    belong together as past ones did across steps and, where `joint`, across series. `errors` are those that ranges and
    paths were made of; what is as `near` (2, n_series, horizon) to a limit is at it.
    """

    known: Panel
    fitted: FittedContender
    origin: int
    mean: Floats
    levels: tuple[float, ...]
    lower: dict[float, Floats]
    upper: dict[float, Floats]
    paths: Floats
    joint: bool
    errors: PastErrors
    ranges: RangesBy
    limits: Limits
    seed: int = 0
    near: Floats | None = None
    notes: tuple[str, ...] = ()

    @property
    def keys(self) -> tuple[str, ...]:
        """Of the series."""
        return self.known.keys

    @property
    def horizon(self) -> int:
        """Steps ahead."""
        return int(self.mean.shape[1])

    @property
    def positions(self) -> Ints:
        """Grid positions of the steps ahead, (horizon,)."""
        return np.asarray(self.origin + np.arange(self.horizon))

    @property
    def times(self) -> Instants:
        """UTC instants of the steps ahead, (horizon,)."""
        return self.known.axis.times(self.positions)

    @property
    def how(self) -> str:
        """What ranges are made of: walk-forward, rehearsals, theory."""
        return "theory" if self.ranges == "theory" else self.errors.how

    @cached_property
    def held(self) -> tuple[Floats, Ints]:
        """How often such ranges of earlier errors held later ones, (n_levels, horizon), and of how many, (horizon,).

        NaN where that is not known, as it is for those that a forecaster states itself.
        """
        if self.ranges == "theory":
            return np.full((len(self.levels), self.horizon), np.nan), np.zeros(self.horizon, dtype=np.int64)
        return self.errors.adapted(self.levels)[1:] if self.ranges == "adaptive" else self.errors.held(self.levels)

    @property
    def coverage(self) -> dict[float, Floats]:
        """By level, how often such ranges held, (horizon,); NaN where unknown."""
        return dict(zip(self.levels, self.held[0], strict=True))

    @cached_property
    def forecast(self) -> Forecast:
        """Mean and ranges as a contender answers them."""
        bounds = np.array([[self.lower[level], self.upper[level]] for level in self.levels])
        return Forecast(
            self.known.axis, self.keys, self.origin, self.mean, np.full(self.mean.shape, np.nan), self.paths,
            self.levels, bounds.reshape(-1, 2, *self.mean.shape),
        )  # fmt: skip

    def to_arrow(self) -> pa.Table:
        """One row per series and step: time (UTC), key, mean, and both ends of every range."""
        return self.forecast.to_arrow()

    def write(self, path: Path | str) -> Path:
        """Write the table to a file, its format by its ending: csv, json, parquet, arrow or xlsx; returns the path."""
        target = Path(path)
        target.write_bytes(written(self.to_arrow(), target.suffix.removeprefix(".").lower(), self.about))
        return target

    @property
    def about(self) -> dict[str, Any]:
        """What it is and rests on, as plain data."""
        known = self.known.axis.local(np.array([self.origin - 1]))[0]
        held = {f"{level:g}": [None if np.isnan(each) else float(each) for each in self.coverage[level]]
                for level in self.levels}  # fmt: skip
        return {
            "contender": self.fitted.contender.document(), "dataset": self.known.hash, "known_up_to": str(known),
            "zone": self.known.zone, "step": self.known.step, "unit": self.known.unit, "horizon": self.horizon,
            "levels": list(self.levels), "ranges": self.ranges, "errors": self.how, "origins": len(self.errors.flat),
            "held": held, "joint": self.joint, "notes": list(self.notes),
        }  # fmt: skip

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        return self.to_arrow().__arrow_c_stream__(requested_schema)

    def __repr__(self) -> str:
        return repr(self.forecast).replace("Forecast", "Outlook", 1)

    def total(
        self, by: str | Step | None = None, how: How = "sum", over: Mapping[str, Sequence[str]] | None = None
    ) -> Totals:
        """Sums (or `mean`, `last`, `max`, `min`) over days, months, …, or over all steps, with ranges from the paths.

        `over` names groups of keys whose series are summed, such as {"town": panel.keys}. Raises `SettingsError` for
        what there is not.
        """
        return totals(self.known, self.origin, self.mean, self.paths, self.levels, by, how, over)

    def chance(self, above: float | None = None, below: float | None = None, run: int = 1) -> Chance:
        """That a level is passed: at each step, ever by then, or for `run` steps in a row."""
        return chance(self.paths, above, below, run)

    def peak(self, lowest: bool = False) -> Peak:
        """When each series is highest, or lowest."""
        return peak(self.paths, lowest)

    def in_stock(self, share: float, steps: int | None = None) -> Floats:
        """What covers all that is taken in the first `steps` in a share of all cases, (n_series,)."""
        return in_stock(self.paths, share, steps)

    @cached_property
    def parts(self) -> dict[str, Floats]:
        """What forecasts are made of: parts by name, (n_series, horizon) each, that add up to the mean."""
        return parts_of(self.fitted, self.mean)

    @cached_property
    def part_errors(self) -> dict[str, Floats]:
        """Standard errors of those of the `parts` that a forecaster states some of, (n_series, horizon), NaN for series
        without; none behind a chain, where parts are told in other units."""
        return part_errors_of(self.fitted, self.horizon)

    def quantile(self, share: float) -> Floats:
        """What paths stay below in a share of all cases, at each step (n_series, horizon)."""
        if not 0 < share < 1:
            raise SettingsError("A share lies between 0 and 1, such as 0.95.", field="share")
        return np.asarray(np.quantile(self.paths, share, axis=0))

    def redrawn(self, paths: int = 1000, seed: int = 0, joint: bool = True) -> "Outlook":
        """The same with other paths: as many, by another seed, or each series on its own."""
        free = _drawn(self, drawable(paths), seed, joint)
        return replace(self, paths=self.limits.kept(free, self.near), joint=joint, seed=seed)

    def fared(self, later: Panel) -> Fared:
        """How it fared by later data of its series: errors against what its paths promised, ranges, drift.

        Raises `InputError` for data on another grid.
        """
        require_panel(later)
        self.known.axis.shift_of(later.axis)
        ranges = {level: (self.lower[level], self.upper[level]) for level in self.levels}
        return fared(self.mean, self.paths, ranges, came(self.times, self.keys, later))

    def under(self, scenario: Scenario) -> "Outlook":
        """The same, by what was learned and with the same draws, had what is known ahead come as a scenario says.

        Raises `SettingsError` for edits that do not fit.
        """
        standing = self.fitted.standing_on(scenario.applied(self.known, self.horizon))
        return told(
            standing, self.errors, self.horizon, self.levels, self.seed, self.ranges, self.limits, len(self.paths),
            self.joint, aims_of(self.errors, self.levels, self.ranges),
        )  # fmt: skip

    def sentence(
        self, at: Moment | None = None, key: str | None = None, level: float | None = None, above: float | None = None,
        unit: str = "",
    ) -> str:  # fmt: skip
        """What is expected of a series at a time, within what, and the chance of more than `above`, in one sentence.

        Raises `SettingsError` for a level that there is no range of, `InputError` for a time that is not ahead.
        """
        return whole_sentence(self._said(key, level, unit), at, above)

    def paragraph(self, key: str | None = None, level: float | None = None, unit: str = "") -> str:
        """What is expected of a series in all: level, direction, peak, width, and what that rests on."""
        return whole_paragraph(self._said(key, level, unit))

    def _said(self, key: str | None, level: float | None, unit: str) -> Said:
        index = 0 if key is None else self.known.index(key)
        wanted = max(self.levels, default=None) if level is None else level
        if wanted is not None and wanted not in self.levels:
            raise SettingsError(f"There is no range of {wanted:g} here.", field="level")
        share, of = (None, 0) if wanted is None else share_held(self.coverage[wanted], self.held[1])
        low, high = (None if wanted is None else rows[wanted][index] for rows in (self.lower, self.upper))
        return Said(
            self.known.axis, self.keys[index], unit, self.origin, self.mean[index], low, high, wanted,
            self.paths[:, index], self.known.series(index), share, of, int(self.errors.counts()[index]), self.how,
        )  # fmt: skip


def outlook(
    panel: Panel,
    contender: Contender,
    results: Sequence[CellResult] | None = None,
    horizon: int | None = None,
    levels: Sequence[float] = LEVELS,
    seed: int = 0,
    ahead: Ahead = "given",
    *,
    until: Moment | None = None,
    to: Moment | None = None,
    ranges: RangesBy = "errors",
    floor: float | None = None,
    ceiling: float | None = None,
    whole: bool = False,
    paths: int = 1000,
    joint: bool = True,
    scenario: Scenario | None = None,
    rehearsals: int = REHEARSED,
    progress: Callable[[float], object] | None = None,
    stop_asked: Callable[[], bool] = bool,
    workers: int = 1,
) -> Outlook:
    """Refit on everything known, at `until`, and forecast `horizon` steps, or up `to` a time with it included, with
    ranges and `paths` joint paths.

    Ranges and paths are made of the errors of walk-forward `results`, the contender's own cells; without any, or beyond
    the horizon that they judged, of those of up to `rehearsals` earlier origins, which three refits forecast;
    “adaptive” ones aim at levels moved by how such ranges held lately. By “theory”, ranges are those that the
    forecaster states itself, where it does. `floor`, `ceiling` and `whole` numbers are what the quantity can be;
    `ahead` says how columns that are known ahead go on where they end too early, `scenario` how they come otherwise
    than given: nothing of it is learned from. Rehearsals are shared out over so many `workers`.

    Raises `SettingsError` for what does not fit, `TooShortError` where nothing is known or such a column ends before
    the horizon, `StoppedError` when a stop was asked for.
    """
    require_panel(panel)
    limits, paths = Limits(floor, ceiling, whole), drawable(paths)
    if ranges not in get_args(RangesBy):
        raise SettingsError(f"Ranges are by {' or '.join(get_args(RangesBy))}.", field="ranges")
    cut = panel.cut_at(until)
    steps = _horizon(cut, contender, results, horizon if to is None else steps_to(cut, to))
    known = continued(cut, contender, steps, ahead)
    as_said = known if scenario is None else scenario.applied(known, steps)
    require_ahead(as_said, contender.forecaster, steps)
    made = list[FittedContender]()

    def learn() -> None:
        made.append(contender.fit(known, horizon=steps, seed=seed, levels=tuple(levels)))

    judged = errors_of(known, results).before(known.end) if results else None
    if judged is not None and judged.horizon >= steps:
        errors = judged.up_to(steps)
        learn()
    else:
        errors = rehearsed(known, contender, steps, seed, rehearsals, progress, stop_asked, workers, learn)
    fitted = made[0]
    if scenario is not None:
        fitted = fitted.standing_on(as_said)
    aims = aims_of(errors, levels, ranges)
    return told(fitted, errors, steps, levels, seed, ranges, limits, paths, joint, aims)


def aims_of(errors: PastErrors, levels: Sequence[float], ranges: RangesBy) -> list[float]:
    """Levels that ranges aim at: those that are asked for, or adapted by the errors of all series."""
    return errors.adapted(levels)[0] if ranges == "adaptive" else list(levels)


def told(
    fitted: FittedContender, errors: PastErrors, horizon: int, levels: Sequence[float], seed: int, ranges: RangesBy,
    limits: Limits, paths: int, joint: bool, aims: Sequence[float],
) -> Outlook:  # fmt: skip
    """What a fitted contender forecasts from where it stands, with ranges, which aim at `aims`, and paths, if any, from
    past errors."""
    own = ranges == "theory" or not np.isfinite(errors.flat).any()
    aims = levels if own else aims
    forecast = fitted.forecast(horizon, aims, None if own else errors.flat)
    lower, upper = (
        {level: ends[aim] for level, aim in zip(levels, aims, strict=True)} for ends in (forecast.lower, forecast.upper)
    )
    plain = Outlook(
        fitted.known, fitted, fitted.until, forecast.mean, tuple(levels), lower, upper,
        np.empty((0, *forecast.mean.shape)), joint, errors, "theory" if own else ranges, limits, seed,
    )  # fmt: skip
    made = _within(plain, _drawn(plain, paths, seed, joint), None if own else (aims, forecast.possible))
    return replace(made, notes=tuple(each for each in (_ranges_note(made, ranges), *made.notes) if each))


def _within(plain: Outlook, free: Floats, possible: tuple[Sequence[float], Floats] | None) -> Outlook:
    """The outlook with paths that were drawn, and all of it within its limits; ranges are of what is `possible`, at the
    levels aimed at, where that is given and limits cut it."""
    limits, near = plain.limits, plain.limits.near(plain.known, _spread(plain, free))
    bounds = np.array([[plain.lower[level], plain.upper[level]] for level in plain.levels])
    bounds = bounds.reshape(-1, 2, *plain.mean.shape)
    if possible is not None and limits.any and not are_few(len(possible[1]), possible[0]):
        found = limits.ends_of(possible[1], plain.mean, possible[0], near)
        bounds = np.where(np.isfinite(found), found, bounds)
    ends = limits.ends(_nested(bounds, plain.levels), near)
    lower, upper = ({level: ends[place, end] for place, level in enumerate(plain.levels)} for end in (0, 1))
    said = limits.in_words(free)
    return replace(
        plain, mean=limits.kept(plain.mean), lower=lower, upper=upper, paths=limits.kept(free, near), near=near,
        notes=(said,) if said else (),
    )  # fmt: skip


def _spread(plain: Outlook, free: Floats) -> Floats:
    """Standard deviations (n_series, horizon) that the narrowest range stands for, or those of paths without any."""
    if not plain.levels:
        return np.asarray(free.std(axis=0)) if len(free) else np.zeros(plain.mean.shape)
    level = min(plain.levels)
    return np.asarray((plain.upper[level] - plain.lower[level]) / 2 / special.ndtri(0.5 + level / 2))


def steps_to(known: Panel, to: Moment) -> int:
    """How many steps after the end of a panel it is up to a time, with it included; of a day, up to its end.

    Raises `SettingsError` for one that is not ahead.
    """
    end = to
    if isinstance(to, str):
        end = str(end_of_period(to, known.zone) - np.timedelta64(1, "s")) + "Z"
    steps = known.axis.known(end) - known.end
    if steps < 1:
        last = str(known.axis.local(np.array([known.end - 1]))[0]).replace("T", " ")
        raise SettingsError(f"{to} is not ahead: everything is known up to {last}.", field="to")
    return steps


def _horizon(panel: Panel, contender: Contender, results: Sequence[CellResult] | None, horizon: int | None) -> int:
    """Steps ahead: those asked for, or judged, or a season."""
    judged = max((result.flat_mean.shape[2] for result in results or ()), default=0)
    steps = horizon or judged or max(panel.axis.step.season, 1)
    if not 1 <= steps <= MOST_STEPS:
        raise SettingsError(f"The horizon is of 1 to {MOST_STEPS:,} steps.", field="horizon")
    if contender.forecaster.family == "elsewhere" and steps > judged:
        raise SettingsError(f"Forecasts made elsewhere were judged for {judged} steps.", field="horizon")
    return steps


def drawable(paths: int) -> int:
    """So many paths; raises `SettingsError` for more, or fewer, than are drawn."""
    if not 1 <= paths <= MOST_PATHS:
        raise SettingsError(f"1 to {MOST_PATHS:,} paths are drawn.", field="paths")
    return paths


def _drawn(made: Outlook, count: int, seed: int, joint: bool) -> Floats:
    """Paths (count, n_series, horizon) before limits: with errors drawn from past ones; by theory simulated, where it
    can, and then each series on its own."""
    if not count:
        return np.empty((0, *made.mean.shape))
    if made.ranges != "theory":
        return made.fitted.futures(drawn(made.errors.flat, count, seed, joint))
    simulated = made.fitted.simulated(made.horizon, count, seed) if made.fitted.has_theory else None
    if simulated is not None:
        return simulated
    inside = made.fitted.flat_errors(made.horizon)
    return made.fitted.futures(drawn(inside, count, seed, joint))


def _nested(bounds: Floats, levels: Sequence[float]) -> Floats:
    """Ranges (n_levels, 2, …) of which those of higher levels reach at least as far."""
    out = bounds.copy()
    order = np.argsort(levels, kind="stable")
    for inner, outer in pairwise(order):
        out[outer, 0] = np.fmin(out[outer, 0], out[inner, 0])
        out[outer, 1] = np.fmax(out[outer, 1], out[inner, 1])
    return out


def _ranges_note(made: Outlook, wanted: RangesBy) -> str:
    if wanted != "theory" and made.ranges == "theory":
        why = "theory" if made.fitted.has_theory else "errors inside what was learned"
        return f"There are no errors out of sample: ranges are by {why}, and not earned."
    if wanted == "theory" and not made.fitted.has_theory:
        return "The forecaster states no ranges: they are of errors inside what was learned."
    return ""
