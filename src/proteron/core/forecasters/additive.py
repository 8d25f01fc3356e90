"""A series as the sum of a bending trend, waves, occasions and covariates, by penalised regression."""

from dataclasses import dataclass, replace
from itertools import product
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from pydantic import BeforeValidator, Field, model_validator

from proteron.core.documents import whole_word
from proteron.core.errors import SettingsError, UnitsError
from proteron.core.forecasters.forecaster import ForecasterState, Work
from proteron.core.forecasters.local import Learned, LocalForecaster
from proteron.core.forecasters.noise import Noise
from proteron.core.forecasters.onwards import FADINGS, carried, faded
from proteron.core.forecasters.pictures import Curve, Picture
from proteron.core.forecasters.ranges import spread_out
from proteron.core.forecasters.rehearsal import LEAST, parts_of, rehearsed_steps, steps_after
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints

_HUBER, _FAR = 1.345, 4.0
_ROUNDS, _LONGEST_MEMORY = 6, 0.98
_SHRINKAGES = np.logspace(-3, 4, 22)
_HARDLY_SEEN = 8.0  # half seasons to a span
_CLEARLY = 0.92


def _way(follow: float, keep: float, fading: float) -> dict[str, float]:
    """What part of an error is carried on, what is kept of it each step, and what of the slope beyond the cutoff."""
    return {"follow": follow, "keep": keep, "fading": fading}


_AS_A_RULE = _way(0.8, 1.0, 0.9)
_WAYS = [_way(0.0, 1.0, fading) for fading in FADINGS] + [
    _way(*each) for each in product((0.2, 0.5, 0.8, 1.0), (1.0, 0.95, 0.8), FADINGS)
]


class Additive(LocalForecaster):
    """Trend with knots, Fourier seasons, occasions with their days around, and covariates, added up and fitted at once.

    Changes of the trend's slope are shrunk, by how much is chosen by generalised cross-validation (Golub, Heath &
    Wahba 1979); everything else a little, as ridge regression does. A floor and a ceiling bend the sum into between
    them; multiplied seasons are added on the logarithm. A forecast starts from where the series is: what the parts have
    lately left is smoothed and carried on, and beyond the cutoff the last slope fades. By how much either is chosen by
    the error after the end of parts of what is known; the doubt that the slope changes as it has is in the ranges.
    """

    title: ClassVar[str] = "additive parts"
    family: ClassVar[str] = "structural"
    can: ClassVar[tuple[str, ...]] = ("trend", "seasons", "covariates", "gaps", "ranges")
    cost: ClassVar[float] = 300.0
    least: ClassVar[int] = 6
    kind: Literal["additive"] = "additive"
    periods: tuple[float, ...] = Field((), title="Periods", description="Steps; empty: the step's own seasons.")
    waves: int | None = Field(None, ge=1, le=30, title="Waves", description="Per season; empty: by its length.")
    knots: int = Field(10, ge=0, le=100, title="Knots", description="Where the slope may change, evenly spread.")
    occasions: bool = Field(True, title="Occasions")
    reach: int = Field(0, ge=0, le=30, title="Around", description="Steps before and after an occasion that count.")
    covariates: tuple[str, ...] = Field((), title="Covariates", description="Columns known ahead.")
    season: Annotated[Literal["additive", "multiplicative"], BeforeValidator(whole_word)] = Field(
        "additive", title="Season"
    )
    floor: float | None = Field(None, title="Floor")
    ceiling: float | None = Field(None, title="Ceiling")
    follow: float | None = Field(
        None, ge=0, le=1, title="Follow", description="Part of an error that is carried on; empty: by validation."
    )
    keep: float | None = Field(
        None, ge=0, le=1, title="Keep", description="Part of what is carried on that is left a step later."
    )
    fading: float | None = Field(
        None, ge=0, le=1, title="Fading", description="Of the slope beyond the cutoff, a step; 1: it goes on."
    )
    robust: bool = Field(True, title="Robust", description="Huber's loss instead of squares.")

    @model_validator(mode="after")
    def _bounds_are_in_order(self) -> "Additive":
        if self.ceiling is not None and self.floor is not None and self.ceiling <= self.floor:
            raise ValueError("the ceiling lies above the floor")
        if self.season == "multiplicative" and self.ceiling is not None:
            raise ValueError("seasons are multiplied, or there is a ceiling, not both")
        return self

    # scale of the sum

    def _inside(self, values: Floats) -> Floats:
        """What the parts add up to: the values, their logarithm, or how far they are between floor and ceiling."""
        low = self.floor or 0.0
        if self.ceiling is not None:
            share = (values - low) / (self.ceiling - low)
            return np.log(np.clip(share, 1e-3, 1 - 1e-3) / (1 - np.clip(share, 1e-3, 1 - 1e-3)))
        if self.season == "multiplicative":
            return np.log(np.where(values > low, values - low, np.nan))
        return values

    def _outside_of(self, sums: Floats) -> Floats:
        low = self.floor or 0.0
        if self.ceiling is not None:
            return low + (self.ceiling - low) / (1 + np.exp(-np.clip(sums, -60, 60)))
        if self.season == "multiplicative":
            return low + np.exp(np.clip(sums, -600, 600))
        return np.maximum(sums, low) if self.floor is not None else sums

    def limits(self, learned: Learned) -> tuple[float, float]:
        """Floor and ceiling, and zero where seasons are multiplied."""
        bounded = self.ceiling is not None or self.season == "multiplicative"
        low = (self.floor or 0.0) if bounded else -np.inf if self.floor is None else self.floor
        return low, np.inf if self.ceiling is None else self.ceiling

    # columns

    def _seasons(self, panel: Panel, span: int) -> list[tuple[float, int]]:
        """Periods with their number of waves; those longer than half the span cannot be told."""
        periods = self.periods or tuple(each for each in panel.axis.step.seasons if each >= 2)
        out = []
        for period in periods:
            if period < 2 or 2 * period > span:
                continue
            waves = self.waves or (3 if period <= 8 else 6 if period <= 60 else 10)
            out.append((period, min(waves, int(period // 2))))
        return out

    def _untold(self, panel: Panel, span: int) -> list[float]:
        """Periods that are too long to be told yet, and short enough to have bent the trend."""
        periods = self.periods or tuple(panel.axis.step.seasons)
        return [float(each) for each in periods if span < 2 * each <= _HARDLY_SEEN * span]

    def _columns(
        self, panel: Panel, index: int, first: int, count: int, span: int, fading: float = 1.0
    ) -> tuple[Floats, list[str], list[str]]:  # fmt: skip
        """Columns (count, k) from grid position `first` on, what part each belongs to, names.

        Beyond `span` each step of the trend is `fading` times the one before.
        """
        at = np.arange(float(count))
        time = faded(at, float(span), fading) / span
        columns, parts, names = [np.ones(count), time], ["level", "trend"], ["level", "slope"]
        for place in np.linspace(0, 0.85, self.knots + 2)[1:-1] if self.knots else ():
            columns.append(np.maximum(time - place, 0.0))
            parts.append("bend")
            names.append(f"bend at {place * span:.0f}")
        for period, waves in self._seasons(panel, span):
            for wave in range(1, waves + 1):
                angle = 2 * np.pi * wave * (at + first) / period
                if 2 * wave < period:
                    columns.append(np.sin(angle))
                    names.append(f"sine {wave} of {period:g}")
                    parts.append(f"season {period:g}")
                columns.append(np.cos(angle))
                names.append(f"cosine {wave} of {period:g}")
                parts.append(f"season {period:g}")
        for name, shown in self._occasion_columns(panel, first, count):
            columns.append(shown)
            parts.append("occasions")
            names.append(name)
        for name in self.covariates:
            covariate = panel.covariate(name)
            if covariate.role == "observed" or covariate.labels:
                raise SettingsError(f"“{name}” is not a number that is known ahead.", field="covariates")
            values = covariate.series(index)
            if covariate.role == "static":
                continue
            values = values[first - int(panel.starts[index]) :][:count]
            columns.append(np.concatenate([values, np.full(count - len(values), np.nan)]))
            parts.append("covariates")
            names.append(name)
        return np.column_stack(columns), parts, names

    def _occasion_columns(self, panel: Panel, first: int, count: int) -> list[tuple[str, Floats]]:
        if not self.occasions:
            return []
        out = []
        for name in sorted({each.name for each in panel.occasions}):
            spans = [(each.start - first, each.stop - first) for each in panel.occasions if each.name == name]
            for offset in range(-self.reach, self.reach + 1):
                shown = np.zeros(count)
                for start, stop in spans:
                    if offset == 0:
                        shown[max(start, 0) : max(stop, 0)] = 1.0
                    else:
                        place = start + offset if offset < 0 else stop - 1 + offset
                        if 0 <= place < count:
                            shown[place] = 1.0
                out.append((name if offset == 0 else f"{name} {offset:+d}", shown))
        return out

    # learning

    def learn_series(self, known: Panel, index: int, work: Work) -> Learned:
        """What is learned of one series; raises `ProteronError` where it must decline."""
        first = int(known.starts[index])
        values, present = known.series(index), np.isfinite(known.series(index))
        if self.season == "multiplicative" and values[present].min() <= (self.floor or 0.0):
            raise UnitsError("Multiplied seasons need values above the floor.", field="season")
        way = self._chosen_way(known.select([index]), first, work) if present.sum() >= LEAST else None
        learned = self._summed(known, index) | {**_AS_A_RULE, **(way or {}), **self._given_way}
        told = replace(learned, outside=self.outside(known, index, first))
        left = self._left(told, np.ascontiguousarray(values))
        errors = (left - float(told["keep"]) * carried(left, float(told["follow"]), float(told["keep"]))[:-1])[present]
        if self.robust:  # a range need not hold what is this far out
            far = _FAR * 1.4826 * float(np.median(np.abs(errors)))
            errors = np.clip(errors, -far, far)
        squares = float((errors**2).sum())
        return learned | {"spread": np.sqrt(squares / max(present.sum() - float(learned["spent"]), 1.0))}

    @property
    def _given_way(self) -> dict[str, float]:
        given = {"follow": self.follow, "keep": self.keep, "fading": self.fading}
        return {name: value for name, value in given.items() if value is not None}

    def _chosen_way(self, alone: Panel, first: int, work: Work) -> dict[str, float] | None:
        """How to go on: what erred clearly less than the rule after the ends of earlier parts; None: the rule."""
        ways = [each for each in _WAYS if all(each[name] == value for name, value in self._given_way.items())]
        if len(self._given_way) == len(_AS_A_RULE):
            return None
        ways = [*ways, _AS_A_RULE | self._given_way]
        values = np.ascontiguousarray(alone.series(0))
        horizon = rehearsed_steps(int(np.isfinite(values).sum()), work.horizon, alone.axis.step.season)
        errors = np.zeros(len(ways))
        for cut, at in parts_of(values):
            work.go_on()
            part = self._summed(alone.between(0, first + cut), 0)
            truth = steps_after(values, at, horizon)
            told = replace(part, outside=self.outside(alone, 0, first))
            fadings = {way["fading"] for way in ways}
            sums = {each: self._sums(told | {"fading": each}, len(values) + horizon) for each in fadings}
            for place, way in enumerate(ways):
                gaps = truth - self._onwards(sums[way["fading"]], values, way, at, horizon)
                errors[place] += np.nansum(np.abs(gaps))
        best = int(np.argmin(errors))
        return ways[best] if errors[best] < _CLEARLY * errors[-1] else None

    def _summed(self, known: Panel, index: int) -> Learned:
        """The parts of one series, by regression."""
        values, first = known.series(index), int(known.starts[index])
        present = np.isfinite(values)
        span = max(len(values) - 1, 1)
        columns, parts, names = self._columns(known, index, first, len(values), span)
        rows = present & np.isfinite(columns).all(axis=1)
        follows = np.diff(np.flatnonzero(rows), prepend=-2) == 1
        used = np.ptp(columns[rows], axis=0) > 1e-12
        used[0] = True
        sums = self._inside(values[rows])
        unit = float(np.std(sums)) or 1.0
        centre = float(np.median(sums))
        aim = (sums - centre) / unit
        slopes, covariance, spent, used = self._fitted(columns[rows], aim, used, parts, follows)
        bends = np.array([part == "bend" for part in parts])[used]
        full, spread = np.zeros(len(names)), np.zeros((len(names), len(names)))
        full[used] = slopes
        spread[np.ix_(used, used)] = covariance
        moved = slopes[bends]
        turning = float((moved**2).mean()) * (self.knots / 0.85) if bends.any() else 0.0
        return Learned({
            "span": span, "unit": unit, "centre": centre, "slopes": full, "covariance": spread, "spent": spent,
            "turning": turning, "count": len(values),
        }, {"parts": parts, "names": names, "untold": self._untold(known, span)})  # fmt: skip

    def _fitted(
        self, columns: Floats, aim: Floats, used: Any, parts: list[str], follows: Any
    ) -> tuple[Floats, Floats, float, Any]:  # fmt: skip
        """Slopes (k,), their covariance, numbers spent, and which columns are used.

        Seasons that were not asked for are added from the shortest on where Schwarz's criterion of innovations
        falls.
        """
        belongs = np.array(parts)
        bends = belongs == "bend"
        seasons = [] if self.periods else list(dict.fromkeys(part for part in parts if part.startswith("season ")))
        within = used & ~np.isin(belongs, seasons)
        best = _penalised(columns[:, within], aim, bends[within], self.robust, follows)
        for season in seasons:
            wider = within | (used & (belongs == season))
            found = _penalised(columns[:, wider], aim, bends[wider], self.robust, follows)
            if found.criterion < best.criterion:
                within, best = wider, found
        return best.slopes, best.covariance, best.spent, within

    def outside(self, panel: Panel, index: int, first: int) -> Any:
        """What is known besides the series from grid position `first` on."""
        return lambda count, span, fading: self._columns(panel, index, first, count, span, fading)[0]

    def means_of(self, learned: Learned, values: Floats, at: Ints, horizon: int) -> Floats:
        """Means (n_origins, horizon) after `at` points of `values` (n_points,)."""
        sums = self._sums(learned, max(int(at.max(initial=0)) + horizon, len(values)))
        return self._onwards(sums, values, learned, at, horizon)

    def _onwards(
        self, sums: Floats, values: Floats, way: Learned | dict[str, float], at: Ints, horizon: int
    ) -> Floats:  # fmt: skip
        """Means (n_origins, horizon): the sum of the parts (≥ n + horizon,), and what is carried on of the rest."""
        keep = float(way["keep"])
        left = np.ascontiguousarray(self._inside(values) - sums[: len(values)])
        rest = carried(left, float(way["follow"]), keep)[at]
        return self._outside_of(
            sums[at[:, None] + np.arange(horizon)] + rest[:, None] * keep ** np.arange(1.0, horizon + 1)
        )

    def _left(self, learned: Learned, values: Floats) -> Floats:
        """What the parts leave of values (n,), in units of the sum."""
        return np.ascontiguousarray(self._inside(values) - self._sums(learned, len(values)))

    def _sums(self, learned: Learned, count: int) -> Floats:
        columns = learned.outside(count, int(learned["span"]), float(learned["fading"]))
        slopes = learned["slopes"][: columns.shape[1]]
        return np.asarray((columns * slopes).sum(axis=1) * float(learned["unit"]) + float(learned["centre"]))

    def _doubt(self, learned: Learned, at: int, horizon: int) -> Floats:
        """Variance (horizon,) of the sum's mean, in its units: of what was learned, and of slopes to come."""
        columns = learned.outside(at + horizon, int(learned["span"]), float(learned["fading"]))[at:]
        width = columns.shape[1]
        doubt = np.einsum("hi,ij,hj->h", columns, learned["covariance"][:width, :width], columns)
        beyond = np.maximum(at + np.arange(1.0, horizon + 1) - int(learned["count"]), 0.0) / float(learned["span"])
        return np.asarray((np.maximum(doubt, 0.0) + float(learned["turning"]) * beyond**3 / 3) * learned["unit"] ** 2)

    def paths_of(self, learned: Learned, values: Floats, at: int, noise: Noise) -> Floats | None:
        """Paths (count, horizon) after `at` points, driven by the errors of `noise`."""
        count, horizon = noise.errors.shape
        sums = self._sums(learned, at + horizon)[at:]
        own = float(learned["spread"])
        shared = np.sqrt(self._doubt(learned, at, horizon)) * noise.rng.normal(size=(count, 1))
        keep = float(learned["keep"])
        rest = carried(self._left(learned, values[:at]), float(learned["follow"]), keep)[at]
        moves = np.concatenate([[1.0], float(learned["follow"]) * keep ** np.arange(1.0, horizon)])
        return self._outside_of(
            sums + rest * keep ** np.arange(1.0, horizon + 1) + shared + spread_out(own * noise.errors, moves)
        )

    def components(
        self, state: ForecasterState, panel: Panel, key: str, ahead: int = 0
    ) -> dict[str, tuple[Floats, Floats]]:
        """Each part over the learned span and `ahead` steps more, (n,), with its standard error, before any bending."""
        learned = self.learned(state, key)
        if learned is None:
            return {}
        index = panel.index(key)
        count = int(learned["count"]) + ahead
        columns, parts, _ = self._columns(panel, index, int(learned["first"]), count, int(learned["span"]))
        unit, width = float(learned["unit"]), len(parts)
        groups = ["trend" if part in ("level", "trend", "bend") else part for part in parts]
        out = {}
        for group in dict.fromkeys(groups):
            mine = np.array([each == group for each in groups])
            mean = columns[:, mine] @ learned["slopes"][:width][mine] * unit
            inner = learned["covariance"][:width, :width][np.ix_(mine, mine)]
            error = np.sqrt(np.maximum(np.einsum("hi,ij,hj->h", columns[:, mine], inner, columns[:, mine]), 0.0)) * unit
            out[group] = (mean + (float(learned["centre"]) if group == "trend" else 0.0), error)
        return out

    def parts(self, state: ForecasterState, panel: Panel, key: str, origin: int, horizon: int) -> dict[str, Floats]:
        """Trend, each season, occasions and covariates, in that order, told as what each adds to those before it; what
        the rest is carried on by comes last."""
        learned = self.learned(state, key)
        if learned is None:
            return {}
        at = origin - int(panel.starts[panel.index(key)])
        found = self.components(state, panel, key, max(at + horizon - int(learned["count"]), 0))
        out, before, sums = dict[str, Floats](), np.zeros(horizon), np.zeros(horizon)
        for name, (values, _) in found.items():
            sums = sums + values[at : at + horizon]
            now = self._outside_of(sums)
            out[name], before = now - before, now
        mean = self.means(state, panel, np.array([origin]), horizon)[panel.index(key), 0]
        return out | {"carried on": mean - before}

    def part_errors(
        self, state: ForecasterState, panel: Panel, key: str, origin: int, horizon: int
    ) -> dict[str, Floats]:
        """Of what was regressed; none where the sum is bent, since parts are no longer told one by one."""
        learned = self.learned(state, key)
        if learned is None or self.ceiling is not None or self.season == "multiplicative":
            return {}
        at = origin - int(panel.starts[panel.index(key)])
        found = self.components(state, panel, key, max(at + horizon - int(learned["count"]), 0))
        return {name: errors[at : at + horizon] for name, (_, errors) in found.items()}

    def pictures(self, state: ForecasterState, panel: Panel, key: str) -> list[Picture]:
        """Every part over its last cycles, with twice its standard error around it."""
        found = self.components(state, panel, key)
        pictures = []
        for part, (mean, error) in found.items():
            shown = slice(None)
            if part.startswith("season "):
                shown = slice(-min(int(np.ceil(float(part.split()[1]))), len(mean)), None)
            step = max(len(mean[shown]) // 600, 1)
            x = np.arange(len(mean))[shown][::step].astype(float)
            y, wide = mean[shown][::step], 2 * error[shown][::step]
            curves = (Curve(part, x, y), Curve("lower", x, y - wide), Curve("upper", x, y + wide))
            pictures.append(Picture(part[0].upper() + part[1:], "steps from the first point", curves))
        return pictures

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Learned numbers of one series by name, in flat units."""
        learned = self.learned(state, key)
        if learned is None:
            return {}
        return self._named(learned, learned["slopes"])

    def standard_errors(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Given how much the bends are shrunk."""
        learned = self.learned(state, key)
        return {} if learned is None else self._named(learned, np.sqrt(np.maximum(np.diag(learned["covariance"]), 0.0)))

    @staticmethod
    def _named(learned: Learned, numbers: Floats) -> dict[str, float]:
        """Those of the numbers (k,) that have a meaning of their own, in units of the series."""
        unit = float(learned["unit"])
        triples = zip(learned.facts["names"], learned.facts["parts"], numbers.tolist(), strict=False)
        return {name: value * unit for name, part, value in triples if part in ("occasions", "covariates")} | {
            "slope": float(numbers[1]) * unit / float(learned["span"])
        }

    def summary_of(self, learned: Learned) -> str:
        """What was learned of one series, in one sentence."""
        parts = list(dict.fromkeys(part for part in learned.facts["parts"] if part not in ("level", "trend", "bend")))
        last = float(sum(learned["slopes"][i] for i, p in enumerate(learned.facts["parts"]) if p in ("trend", "bend")))
        slope = last * float(learned["unit"]) / float(learned["span"])
        told = f"A bending trend, now {slope:+.4g} a step{', with ' if parts else ''}{', '.join(parts)}."
        for period in learned.facts.get("untold", ()):
            told += f" A season of {period:g} steps cannot be told yet: what there is of it stands in the trend."
        return told


@dataclass(frozen=True)
class _Sum:
    """Slopes (k,), their covariance (k, k), numbers spent, and Schwarz's criterion."""

    slopes: Floats
    covariance: Floats
    spent: float
    criterion: float


def _penalised(columns: Floats, aim: Floats, bends: Any, robust: bool, follows: Any) -> _Sum:
    """A sum of columns (n, k) fitted to `aim` (n,); bends are shrunk, by generalised cross-validation.

    Errors that hang together are taken as an autoregression of order one and fitted in its innovations (Prais & Winsten
    1954), where a row `follows` (n,) the one before it. Robust weights are those of innovations.
    """
    weights, memory = np.ones(len(aim)), 0.0
    found: tuple[Floats, Floats, float] | None = None
    for _ in range(_ROUNDS):
        rows, goal = _innovations(columns, memory, follows), _innovations(aim, memory, follows)
        root = np.sqrt(weights)
        found = _shrunk(rows * root[:, None], goal * root, bends)
        rest = aim - columns @ found[0]
        left = _innovations(rest, memory, follows)
        if robust:
            scale = max(1.4826 * float(np.median(np.abs(left))), 1e-9)
            weights = np.minimum(1.0, _HUBER * scale / np.maximum(np.abs(left), 1e-300))
        memory = _memory(rest, weights, follows)
    assert found is not None
    slopes, inverse, spent = found
    squares, count = float((weights * left**2).sum()), len(aim)
    taken = spent + 2  # the memory and the spread besides
    fit = count * np.log(max(squares / count, 1e-300)) - np.log(1 - memory**2)
    criterion = float(fit + taken * np.log(count))
    return _Sum(slopes, inverse * squares / max(count - spent, 1.0), spent, criterion)


def _memory(rest: Floats, weights: Floats, follows: Any) -> float:
    """Autocorrelation at one step of what is left (n,), between 0 and nearly 1."""
    joint = np.flatnonzero(follows)
    squares = float((weights[joint] * rest[joint - 1] ** 2).sum())
    together = float((weights[joint] * rest[joint] * rest[joint - 1]).sum())
    return float(np.clip(together / squares, 0.0, _LONGEST_MEMORY)) if squares > 0 else 0.0


def _innovations(values: Floats, memory: float, follows: Any) -> Floats:
    """Values (n, …) less what is kept of the one before, where they follow it; as they count in a row otherwise."""
    out = values * np.sqrt(1 - memory**2)
    joint = np.flatnonzero(follows)
    out[joint] = values[joint] - memory * values[joint - 1]
    return out


def _shrunk(columns: Floats, aim: Floats, bends: Any) -> tuple[Floats, Floats, float]:
    """Slopes, the inverse of the penalised normal equations, numbers spent.

    All strengths at once: with A = LLᵀ for the least of them and L⁻¹DL⁻ᵀ = VΛVᵀ for what a stronger one adds, the
    inverse of A + sD is UΛₛUᵀ with U = L⁻ᵀV and Λₛ = 1 / (1 + sΛ).
    """
    count, width = columns.shape
    gram, right = columns.T @ columns, columns.T @ aim
    small = np.full(width, 1e-4 * count / max(width, 1))
    small[:2] = 1e-9
    strengths = _SHRINKAGES if bends.any() else _SHRINKAGES[:1]
    lower = np.linalg.cholesky(gram + np.diag(np.where(bends, strengths[0], small)))
    back = np.linalg.inv(lower)
    sizes, vectors = np.linalg.eigh(back[:, bends] @ back[:, bends].T)
    turned = back.T @ vectors
    shares = 1.0 / (1.0 + np.maximum(sizes, 0.0)[:, None] * (strengths - strengths[0]))  # (k, n_strengths)
    slopes = turned @ (shares * (turned.T @ right)[:, None])
    spent = ((turned * (gram @ turned)).sum(axis=0)[:, None] * shares).sum(axis=0)
    squares = ((aim[:, None] - columns @ slopes) ** 2).sum(axis=0)
    best = int(np.argmin(squares / np.maximum(count - spent, 0.5) ** 2))
    return slopes[:, best], (turned * shares[:, best]) @ turned.T, float(spent[best])
