"""A series as the sum of a bending trend, waves, occasions and covariates, by penalised regression."""

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field, model_validator

from proteron.core.errors import SettingsError, UnitsError
from proteron.core.forecasters.forecaster import ForecasterState, Work
from proteron.core.forecasters.local import Learned, LocalForecaster
from proteron.core.forecasters.noise import Noise
from proteron.core.forecasters.pictures import Curve, Picture
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints

_HUBER, _FAR = 1.345, 4.0
_ROUNDS = 6
_SHRINKAGES = np.logspace(-3, 4, 22)


class Additive(LocalForecaster):
    """Trend with knots, Fourier seasons, occasions with their days around, and covariates, added up and fitted at once.

    Changes of the trend's slope are shrunk, by how much is chosen by generalised cross-validation (Golub, Heath &
    Wahba 1979); everything else a little, as ridge regression does. A floor and a ceiling bend the sum into between
    them; multiplied seasons are added on the logarithm. Beyond the cutoff the last slope goes on, with the doubt that
    it may change as often and as much as it has.
    """

    title: ClassVar[str] = "additive parts"
    family: ClassVar[str] = "structural"
    can: ClassVar[tuple[str, ...]] = ("trend", "seasons", "covariates", "gaps", "ranges")
    cost: ClassVar[float] = 300.0
    least: ClassVar[int] = 6
    kind: Literal["additive"] = "additive"
    periods: tuple[float, ...] = Field((), title="Periods", description="Steps; empty: the step's own seasons.")
    waves: int | None = Field(None, ge=1, le=30, title="Waves", description="Per season; empty: by its length.")
    knots: int = Field(20, ge=0, le=100, title="Knots", description="Where the slope may change, evenly spread.")
    occasions: bool = Field(True, title="Occasions")
    reach: int = Field(0, ge=0, le=30, title="Around", description="Steps before and after an occasion that count.")
    covariates: tuple[str, ...] = Field((), title="Covariates", description="Columns known ahead.")
    season: Literal["add", "mul"] = Field("add", title="Season")
    floor: float | None = Field(None, title="Floor")
    ceiling: float | None = Field(None, title="Ceiling")
    robust: bool = Field(True, title="Robust", description="Huber's loss instead of squares.")

    @model_validator(mode="after")
    def _bounds_are_in_order(self) -> "Additive":
        if self.ceiling is not None and self.floor is not None and self.ceiling <= self.floor:
            raise ValueError("the ceiling lies above the floor")
        if self.season == "mul" and self.ceiling is not None:
            raise ValueError("seasons are multiplied, or there is a ceiling, not both")
        return self

    # scale of the sum

    def _inside(self, values: Floats) -> Floats:
        """What the parts add up to: the values, their logarithm, or how far they are between floor and ceiling."""
        low = self.floor or 0.0
        if self.ceiling is not None:
            share = (values - low) / (self.ceiling - low)
            return np.log(np.clip(share, 1e-3, 1 - 1e-3) / (1 - np.clip(share, 1e-3, 1 - 1e-3)))
        if self.season == "mul":
            return np.log(values - low)
        return values

    def _outside_of(self, sums: Floats) -> Floats:
        low = self.floor or 0.0
        if self.ceiling is not None:
            return low + (self.ceiling - low) / (1 + np.exp(-np.clip(sums, -60, 60)))
        if self.season == "mul":
            return low + np.exp(np.clip(sums, -600, 600))
        return np.maximum(sums, low) if self.floor is not None else sums

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

    def _columns(
        self, panel: Panel, index: int, first: int, count: int, span: int
    ) -> tuple[Floats, list[str], list[str]]:  # fmt: skip
        """Columns (count, k) from grid position `first` on, what part each belongs to, names."""
        at = np.arange(float(count))
        time = at / span
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
        values, first = known.series(index), int(known.starts[index])
        present = np.isfinite(values)
        if self.season == "mul" and values[present].min() <= (self.floor or 0.0):
            raise UnitsError("Multiplied seasons need values above the floor.", field="season")
        span = max(len(values) - 1, 1)
        columns, parts, names = self._columns(known, index, first, len(values), span)
        rows = present & np.isfinite(columns).all(axis=1)
        used = np.ptp(columns[rows], axis=0) > 1e-12
        used[0] = True
        sums = self._inside(values[rows])
        unit = float(np.std(sums)) or 1.0
        centre = float(np.median(sums))
        aim = (sums - centre) / unit
        chosen = columns[rows][:, used]
        bends = np.array([part == "bend" for part in parts])[used]
        slopes, covariance, variance = _penalised(chosen, aim, bends, self.robust)
        full, spread = np.zeros(len(names)), np.zeros((len(names), len(names)))
        full[used] = slopes
        spread[np.ix_(used, used)] = covariance
        moved = slopes[bends]
        turning = float((moved**2).mean()) * (self.knots / 0.85) if bends.any() else 0.0
        return Learned({
            "span": span, "unit": unit, "centre": centre, "slopes": full, "covariance": spread, "variance": variance,
            "turning": turning, "count": len(values),
        }, {"parts": parts, "names": names})  # fmt: skip

    def outside(self, panel: Panel, index: int, first: int) -> Any:
        """What is known besides the series from grid position `first` on."""
        return lambda count, span: self._columns(panel, index, first, count, span)[0]

    def means_of(self, learned: Learned, values: Floats, at: Ints, horizon: int) -> Floats:
        """Means (n_origins, horizon) after `at` points of `values` (n_points,)."""
        return self._outside_of(self._sums(learned, int(at.max(initial=0)) + horizon)[at[:, None] + np.arange(horizon)])

    def _sums(self, learned: Learned, count: int) -> Floats:
        columns = learned.outside(count, int(learned["span"]))
        slopes = learned["slopes"][: columns.shape[1]]
        return np.asarray(columns @ slopes * float(learned["unit"]) + float(learned["centre"]))

    def _doubt(self, learned: Learned, at: int, horizon: int) -> Floats:
        """Variance (horizon,) of the sum's mean, in its units: of what was learned, and of slopes to come."""
        columns = learned.outside(at + horizon, int(learned["span"]))[at:]
        width = columns.shape[1]
        doubt = np.einsum("hi,ij,hj->h", columns, learned["covariance"][:width, :width], columns)
        beyond = np.maximum(at + np.arange(1.0, horizon + 1) - int(learned["count"]), 0.0) / float(learned["span"])
        return np.asarray((np.maximum(doubt, 0.0) + float(learned["turning"]) * beyond**3 / 3) * learned["unit"] ** 2)

    def paths_of(self, learned: Learned, values: Floats, at: int, noise: Noise) -> Floats | None:
        """Paths (count, horizon) after `at` points, driven by the errors of `noise`."""
        count, horizon = noise.errors.shape
        sums = self._sums(learned, at + horizon)[at:]
        own = float(learned["unit"]) * np.sqrt(float(learned["variance"]))
        shared = np.sqrt(self._doubt(learned, at, horizon)) * noise.rng.normal(size=(count, 1))
        return self._outside_of(sums + shared + own * noise.errors)

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
        return f"A bending trend, now {slope:+.4g} a step{', with ' if parts else ''}{', '.join(parts)}."


def _penalised(columns: Floats, aim: Floats, bends: Any, robust: bool) -> tuple[Floats, Floats, float]:
    """Slopes (k,), their covariance, the variance around them; bends are shrunk, by generalised cross-validation."""
    weights = np.ones(len(aim))
    found: tuple[Floats, Floats, float] | None = None
    for _ in range(_ROUNDS if robust else 1):
        found = _shrunk(columns * np.sqrt(weights)[:, None], aim * np.sqrt(weights), bends)
        rest = aim - columns @ found[0]
        if robust:
            scale = max(1.4826 * float(np.median(np.abs(rest))), 1e-9)
            weights = np.minimum(1.0, _HUBER * scale / np.maximum(np.abs(rest), 1e-300))
    assert found is not None
    slopes, inverse, spent = found
    rest = aim - columns @ slopes
    if robust:
        rest = np.clip(rest, -_FAR * scale, _FAR * scale)  # a range need not hold what is this far out
    variance = float((rest**2).sum() / max(len(aim) - spent, 1.0))
    return slopes, inverse * variance, variance


def _shrunk(columns: Floats, aim: Floats, bends: Any) -> tuple[Floats, Floats, float]:
    """Slopes, the inverse of the penalised normal equations, numbers spent."""
    count, width = columns.shape
    gram, right = columns.T @ columns, columns.T @ aim
    small = np.full(width, 1e-4 * count / max(width, 1))
    small[:2] = 1e-9
    best: tuple[float, Floats, Floats, float] | None = None
    for strength in _SHRINKAGES if bends.any() else _SHRINKAGES[:1]:
        penalty = np.where(bends, strength, small)
        inverse = np.linalg.pinv(gram + np.diag(penalty))
        slopes = inverse @ right
        spent = float(np.trace(inverse @ gram))
        squares = float(((aim - columns @ slopes) ** 2).sum())
        value = count * squares / max(count - spent, 0.5) ** 2
        if best is None or value < best[0]:
            best = (value, slopes, inverse, spent)
    assert best is not None
    return best[1], best[2], best[3]
