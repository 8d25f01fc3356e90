"""Curves through a whole series as forecasters: lines, parabolas, growth, saturation, pieces."""

from collections.abc import Callable
from itertools import product
from typing import ClassVar, Literal, get_args

import numpy as np
from pydantic import Field, model_validator
from scipy import optimize

from proteron.core.errors import TooShortError
from proteron.core.forecasters.criteria import information
from proteron.core.forecasters.forecaster import ForecasterState, Work
from proteron.core.forecasters.local import Learned, LocalForecaster
from proteron.core.forecasters.noise import Noise
from proteron.core.forecasters.onwards import FADINGS, carried, faded
from proteron.core.forecasters.ranges import spread_out
from proteron.core.forecasters.rehearsal import parts_of, rehearsed_steps
from proteron.core.forecasters.smoothing.fit import seasonal_figure
from proteron.core.forecasters.smoothing.forecaster import Part
from proteron.core.forecasters.smoothing.seasons import (
    WAYS,
    season_behind_trend,
    season_of,
    season_sizes,
    with_season,
    without_season,
)
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints

Shape = Literal["linear", "quadratic", "exponential", "saturating", "piecewise"]
SHAPES: tuple[Shape, ...] = get_args(Shape)
Way = tuple[Shape, float, float]  # shape, fading, following
_LEAST = {"linear": 3, "quadratic": 4, "exponential": 4, "saturating": 5, "piecewise": 6}
_STRAIGHT = ("linear", "quadratic", "piecewise")
_FOLLOWS = (0.0, 0.3, 0.7, 1.0)
_MOST_KNOTS = 5
_OUTLYING = 1.345  # of Huber's loss, in robust spreads


class TrendCurve(LocalForecaster):
    """A curve in time by least squares, plain or with Huber's loss, carried on beyond the cutoff.

    Which shape, and how far it fades beyond the cutoff, is chosen by the error after the ends of parts of what is
    known, where it is left open: a curve that goes through the past best may leave it worst.

    Time runs from 0 at the first known point to 1 at the last. Ranges hold the doubt about the curve (linearised) and
    the spread around it (Seber & Wild 1989, § 5.1).
    """

    title: ClassVar[str] = "trend curve"
    family: ClassVar[str] = "trend"
    can: ClassVar[tuple[str, ...]] = ("trend", "seasons", "gaps", "ranges")
    cost: ClassVar[float] = 50.0
    kind: Literal["trend_curve"] = "trend_curve"
    shape: Shape | Literal["auto"] = Field("auto", title="Shape", description="Auto: by the error after cutoffs.")
    fading: float | None = Field(
        None, ge=0, le=1, title="Fading", description="Of what is added beyond the cutoff, a step; empty: chosen along "
        "with the shape, none for a shape that is given.",
    )  # fmt: skip
    follow: float | None = Field(
        None, ge=0, le=1, title="Follow", description="Part of an error that is carried on; empty: chosen along with "
        "the shape, none for a shape that is given.",
    )  # fmt: skip
    season: Part = Field(
        "auto",
        title="Season",
        description="Taken out beforehand; auto: by a test, for a shape that is chosen.",
    )
    period: int | None = Field(None, ge=1, title="Period", description="Empty: the step's own season.")
    robust: bool = Field(False, title="Robust", description="Huber's loss instead of squares.")
    capacity: float | None = Field(None, title="Capacity", description="Of a saturating curve; empty: fitted.")
    knots: tuple[int, ...] = Field((), title="Knots", description="Points after the first known; empty: found.")

    @model_validator(mode="after")
    def _settings_fit_the_shape(self) -> "TrendCurve":
        if self.capacity is not None and self.shape != "saturating":
            raise ValueError("a capacity belongs to a saturating curve")
        if self.knots and self.shape != "piecewise":
            raise ValueError("knots belong to a curve in pieces")
        return self

    @property
    def label(self) -> str:
        """A short name with the settings that matter."""
        return f"{self.title}, {self.shape}{', robust' if self.robust else ''}"

    def learn_series(self, known: Panel, index: int, work: Work) -> Learned:
        """What is learned of one series; raises `ProteronError` where it must decline."""
        whole = np.ascontiguousarray(known.series(index))
        offset = int(np.flatnonzero(np.isfinite(whole))[0])
        period = self.period or known.axis.step.season
        wanted = "none" if self.season == "auto" and self.shape != "auto" else self.season
        way = season_behind_trend(whole[offset:], period, wanted)
        figure = seasonal_figure(whole[offset:], period, way) if way else np.zeros(1)
        values = np.concatenate([whole[:offset], without_season(whole[offset:], figure, way)])
        without: dict[int, Way] = {}
        if self.shape == "auto":
            (shape, fading, follow), without = self._chosen(values, work)
        else:
            shape, fading, follow = self.shape, 1.0 if self.fading is None else self.fading, self.follow or 0.0
        at = np.flatnonzero(np.isfinite(values))
        if len(at) < _LEAST[shape]:
            raise TooShortError(
                f"A {shape} curve needs {_LEAST[shape]} known points; there are {len(at)}.", field="shape"
            )
        learned = self._learned(values, shape) | {"fading": fading, "follow": follow}
        errors = values - self._flat_means(learned, values, np.arange(len(values)), 1)[:, 0]
        errors = errors[at] / float(learned["unit"])
        variance = _robust_spread(errors) ** 2 if self.robust else float((errors**2).mean())
        free = int(learned["free"]) + (len(figure) if way else 0)
        return learned | {
            "variance": variance * len(at) / max(len(at) - free + 1, 1), "free": free,
            "way": float(WAYS.index(way)), "figure": figure, "cycle": len(figure), "cuts": list(without),
            "without": np.array([(SHAPES.index(each[0]), *each[1:]) for each in without.values()]).reshape(-1, 3),
        }  # fmt: skip

    def as_chosen(self, learned: Learned, cut: int | None = None) -> "TrendCurve":
        """With its season, its shape and its fading given; for a rehearsal, those that the other cuts chose."""
        way = np.array([learned["shape"], learned["fading"], learned["follow"]], dtype=float)
        places = np.flatnonzero(np.atleast_1d(learned["cuts"]) == cut)
        if len(places):
            way = np.atleast_2d(learned["without"])[places[0]]
        season = WAYS[int(learned["way"])] or "none"
        return self.model_copy(
            update={"shape": SHAPES[int(way[0])], "fading": way[1], "follow": way[2], "season": season}
        )

    def _chosen(self, values: Floats, work: Work) -> tuple[Way, dict[int, Way]]:
        """Shape, fading and following that erred least over the steps after the ends of parts of what is known.

        And, by the end of each part, those that erred least after the ends of the others: what was chosen by an error
        says too little about the next one.
        """
        horizon = rehearsed_steps(int(np.isfinite(values).sum()), work.horizon, 1)
        fadings = FADINGS if self.fading is None else (self.fading,)
        follows = _FOLLOWS if self.follow is None else (self.follow,)
        ways: list[Way] = list(product(SHAPES, fadings, follows))
        errors: dict[int, dict[Way, float]] = {}
        for cut, _ in parts_of(values):
            found = errors.setdefault(cut, dict.fromkeys(ways, np.inf))
            truth, part = values[cut : cut + horizon], values[:cut]
            for shape in SHAPES:
                work.go_on()
                if np.isfinite(part).sum() < _LEAST[shape]:
                    continue
                try:
                    learned = self._learned(part, shape)
                except TooShortError:
                    continue
                for fading, follow in product(fadings, follows):
                    told = learned | {"fading": fading, "follow": follow}
                    mean = self._flat_means(told, part, np.array([cut]), len(truth))[0]
                    found[shape, fading, follow] = float(np.nansum(np.abs(truth - mean)))

        def best(cuts: list[int]) -> Way:
            return min(ways, key=lambda way: sum(errors[cut][way] for cut in cuts))

        return best(list(errors)), {cut: best([each for each in errors if each != cut]) for cut in errors}

    def _learned(self, values: Floats, shape: Shape) -> Learned:
        at = np.flatnonzero(np.isfinite(values))
        first, span = int(at[0]), max(int(at[-1] - at[0]), 1)
        time = (at - first) / span
        unit = max(float(np.abs(values[at]).max()), 1e-300)
        scaled = values[at] / unit
        if shape != "piecewise":
            found = self._fitted(shape, time, scaled, np.empty(0), unit)
        else:
            found = self._pieces(time, scaled, np.array(self.knots) / span, unit)
        coefficients, covariance, variance, knots = found
        count, free = len(at), len(coefficients) + 1
        loglik = -0.5 * count * (np.log(2 * np.pi * max(variance, 1e-300)) + 1) - count * np.log(unit)
        return Learned({
            "offset": first, "span": span, "unit": unit, "coefficients": coefficients, "covariance": covariance,
            "variance": variance * count / max(count - len(coefficients), 1), "knots": knots, "loglik": loglik,
            "count": count, "free": free, "shape": SHAPES.index(shape),
        })  # fmt: skip

    def _fitted(
        self, shape: Shape, time: Floats, scaled: Floats, knots: Floats, unit: float
    ) -> tuple[Floats, Floats, float, Floats]:  # fmt: skip
        """Coefficients (k,), their covariance, the variance around the curve, knots."""
        curve = self._curve(shape, knots, unit)
        start = _start(shape, time, scaled, knots, None if self.capacity is None else self.capacity / unit)
        if shape in _STRAIGHT and not self.robust:  # the start is the least squares
            return self._told(curve(time, start), scaled, start, _powers(shape, time, knots), knots)
        try:
            coefficients, slopes = self._nearest(curve, time, scaled, start)
            if self.robust:  # once more from there with the spread of what is left
                coefficients, slopes = self._nearest(curve, time, scaled, coefficients)
        except ValueError as error:
            raise TooShortError(f"A {shape} curve does not go through these values.", field="shape") from error
        return self._told(curve(time, coefficients), scaled, coefficients, slopes, knots)

    def _nearest(
        self, curve: Callable[[Floats, Floats], Floats], time: Floats, scaled: Floats, start: Floats
    ) -> tuple[Floats, Floats]:  # fmt: skip
        """Coefficients (k,) and the slopes of the curve by them (n, k)."""
        spread = _robust_spread(scaled - curve(time, start))
        loss = "huber" if self.robust else "linear"
        found = optimize.least_squares(
            lambda at: curve(time, at) - scaled, start, loss=loss, f_scale=_OUTLYING * spread, x_scale="jac",
            max_nfev=100,
        )  # fmt: skip
        return found.x, found.jac

    def _told(
        self, fitted: Floats, scaled: Floats, coefficients: Floats, slopes: Floats, knots: Floats
    ) -> tuple[Floats, Floats, float, Floats]:  # fmt: skip
        rest = scaled - fitted
        variance = _robust_spread(rest) ** 2 if self.robust else float((rest**2).mean())
        covariance = np.linalg.pinv(slopes.T @ slopes) * variance * len(rest) / max(len(rest) - len(coefficients), 1)
        return coefficients, covariance, variance, knots

    def _pieces(
        self, time: Floats, scaled: Floats, given: Floats, unit: float
    ) -> tuple[Floats, Floats, float, Floats]:  # fmt: skip
        """With the knots given, or added one by one where each helps most, as long as BIC falls."""
        if len(given):
            return self._fitted("piecewise", time, scaled, given, unit)
        places = np.unique(np.quantile(time, np.linspace(0.05, 0.95, 37)))
        knots, best = np.empty(0), self._fitted("piecewise", time, scaled, np.empty(0), unit)
        count = len(time)
        criterion = count * np.log(max(best[2], 1e-300)) + 2 * np.log(count)
        hinges = np.maximum(time[:, None] - places, 0.0)
        while len(knots) < min(_MOST_KNOTS, count // 4):
            basis = np.linalg.qr(_bent(time, knots))[0]
            apart = hinges - basis @ (basis.T @ hinges)
            left = scaled - basis @ (basis.T @ scaled)
            gains = (apart.T @ left) ** 2 / np.maximum((apart**2).sum(axis=0), 1e-12)
            if len(knots):
                gains[np.abs(places[:, None] - knots).min(axis=1) <= 0.03] = 0.0
            if not gains.any():
                break
            longer = np.sort(np.append(knots, places[int(np.argmax(gains))]))
            found = self._fitted("piecewise", time, scaled, longer, unit)
            value = count * np.log(max(found[2], 1e-300)) + (2 + 2 * len(longer)) * np.log(count)
            if value >= criterion:
                break
            knots, best, criterion = longer, found, value
        return best

    def _curve(self, shape: Shape, knots: Floats, unit: float) -> Callable[[Floats, Floats], Floats]:
        """The curve as a function of time (n,) and coefficients (k,), in units of the largest value."""
        if shape == "linear":
            return lambda t, c: c[0] + c[1] * t
        if shape == "quadratic":
            return lambda t, c: c[0] + c[1] * t + c[2] * t * t
        if shape == "exponential":
            return lambda t, c: c[0] + c[1] * np.expm1(np.clip(c[2] * t, -60, 60)) / _apart(c[2])
        if shape == "saturating":
            top = None if self.capacity is None else self.capacity / unit
            return lambda t, c: (c[2] if top is None else top) / (1 + np.exp(-np.clip(c[0] * (t - c[1]), -60, 60)))
        return lambda t, c: _bent(t, knots) @ c

    def _curve_of(self, learned: Learned) -> Callable[[Floats, Floats], Floats]:
        """The curve that was learned, as a function of time and coefficients."""
        knots = learned["knots"][np.isfinite(learned["knots"])]
        return self._curve(SHAPES[int(learned["shape"])], knots, float(learned["unit"]))

    @staticmethod
    def _time(learned: Learned, places: Floats) -> Floats:
        span = float(learned["span"])
        return faded(places - float(learned["offset"]), span, float(learned["fading"])) / span

    def _curve_at(self, learned: Learned, places: Floats) -> Floats:
        coefficients = learned["coefficients"][np.isfinite(learned["coefficients"])]
        time = self._time(learned, places)
        return self._curve_of(learned)(time.ravel(), coefficients).reshape(time.shape) * float(learned["unit"])

    def means_of(self, learned: Learned, values: Floats, at: Ints, horizon: int) -> Floats:
        """Means (n_origins, horizon) after `at` points of `values` (n_points,)."""
        (way, figure), offset = season_of(learned), int(learned["offset"])
        flat = np.concatenate([values[:offset], without_season(values[offset:], figure, way)])
        return with_season(self._flat_means(learned, flat, at, horizon), figure, way, at - offset)

    def _flat_means(self, learned: Learned, values: Floats, at: Ints, horizon: int) -> Floats:
        """The same without the season."""
        curve = self._curve_at(learned, at[:, None] + np.arange(horizon, dtype=np.float64))
        follow = float(learned["follow"])
        if not follow:
            return curve
        left = values - self._curve_at(learned, np.arange(float(len(values))))
        return curve + carried(np.ascontiguousarray(left), follow, 1.0)[at][:, None]

    def spreads_of(self, learned: Learned, values: Floats, at: int, horizon: int) -> Floats | None:
        """Standard deviations (horizon,) after `at` points, by theory."""
        coefficients = learned["coefficients"][np.isfinite(learned["coefficients"])]
        size, unit = len(coefficients), float(learned["unit"])
        curve, time = self._curve_of(learned), self._time(learned, at + np.arange(float(horizon)))
        steps = 1e-6 * np.maximum(np.abs(coefficients), 1e-3)
        slopes = np.stack(
            [
                (curve(time, coefficients + step) - curve(time, coefficients - step)) / (2 * steps[i])
                for i, step in enumerate(np.diag(steps))
            ]
        )
        doubt = np.einsum("ih,ij,jh->h", slopes, learned["covariance"][:size, :size], slopes)
        grown = 1 + np.arange(float(horizon)) * float(learned["follow"]) ** 2
        (way, figure), offset = season_of(learned), int(learned["offset"])
        spread = unit * np.sqrt(np.maximum(doubt, 0.0) + float(learned["variance"]) * grown)
        return spread * season_sizes(figure, way, at - offset, horizon)

    def paths_of(self, learned: Learned, values: Floats, at: int, noise: Noise) -> Floats | None:
        """Paths (count, horizon) after `at` points, driven by the errors of `noise`."""
        count, horizon = noise.errors.shape
        spread = self.spreads_of(learned, values, at, horizon)
        own = float(learned["unit"]) * np.sqrt(float(learned["variance"]))
        assert spread is not None
        follow = float(learned["follow"])
        weights = np.concatenate([[1.0], np.full(horizon - 1, follow)])
        (way, figure), offset = season_of(learned), int(learned["offset"])
        sizes = season_sizes(figure, way, at - offset, horizon)
        doubt = np.sqrt(np.maximum((spread / sizes) ** 2 - own**2 * np.cumsum(weights**2), 0.0))
        moves = spread_out(own * noise.errors, weights) + noise.rng.normal(size=(count, 1)) * doubt
        return self.means_of(learned, values, np.array([at]), horizon)[0] + moves * sizes

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Learned numbers of one series by name, in flat units."""
        learned = self.learned(state, key)
        return {} if learned is None else dict(self._named(learned, learned["coefficients"]))

    def standard_errors(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Standard errors by parameter, where theory gives them."""
        learned = self.learned(state, key)
        if learned is None:
            return {}
        return dict(self._named(learned, np.sqrt(np.maximum(np.diag(learned["covariance"]), 0.0))))

    def _named(self, learned: Learned, of: Floats) -> list[tuple[str, float]]:
        """Coefficients with the units that belong to them: values, and values or rates a step."""
        unit, span = float(learned["unit"]), float(learned["span"])
        size = int(np.isfinite(learned["coefficients"]).sum())
        scales: dict[str, list[tuple[str, float]]] = {
            "linear": [("level", unit), ("slope", unit / span)],
            "quadratic": [("level", unit), ("slope", unit / span), ("bend", unit / span**2)],
            "exponential": [("level", unit), ("slope", unit / span), ("rate", 1 / span)],
            "saturating": [("rate", 1 / span), ("middle", span), ("capacity", unit)],
            "piecewise": [("level", unit), ("slope", unit / span)]
            + [(f"change {i + 1}", unit / span) for i in range(max(size - 2, 0))],
        }
        kinds = scales[SHAPES[int(learned["shape"])]]
        return [(name, float(value) * scale) for (name, scale), value in zip(kinds, of[:size], strict=False)]

    def criteria(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Log-likelihood and criteria of one series, where there is a likelihood."""
        learned = self.learned(state, key)
        if learned is None:
            return {}
        return information(float(learned["loglik"]), int(learned["free"]), int(learned["count"]))

    def summary_of(self, learned: Learned) -> str:
        """What was learned of one series, in one sentence."""
        fading = float(learned["fading"])
        season = {None: "", "additive": " A season is added.", "multiplicative": " A season is multiplied."}[
            season_of(learned)[0]
        ]
        rest = season if fading == 1 else f"{season} Beyond the cutoff each step is {fading:g} of the one before."
        if float(learned["follow"]):
            rest += f" {float(learned['follow']):.0%} of each error is carried on."
        return self._formula(learned) + rest

    def _formula(self, learned: Learned) -> str:
        named, shape = dict(self._named(learned, learned["coefficients"])), SHAPES[int(learned["shape"])]
        if shape == "linear":
            return f"y = {named['level']:.4g} {named['slope']:+.4g} t, t in steps from the first known point."
        if shape == "quadratic":
            return f"y = {named['level']:.4g} {named['slope']:+.4g} t {named['bend']:+.4g} t²."
        if shape == "exponential":
            return f"From {named['level']:.4g}, {named['slope']:+.4g} a step at first, {named['rate']:+.2%} more each."
        if shape == "saturating":
            top = named.get("capacity", self.capacity)
            return f"Towards {top:.4g}, half of it {named['middle']:.0f} steps after the first known point."
        span = float(learned["span"])
        places = ", ".join(f"{knot * span:.0f}" for knot in learned["knots"][np.isfinite(learned["knots"])])
        return f"From {named['level']:.4g}, {named['slope']:+.4g} a step, bent after {places or 'no'} steps."


def _bent(time: Floats, knots: Floats) -> Floats:
    """Columns of a line that bends at knots, (n, 2 + k)."""
    return np.column_stack([np.ones(len(time)), time, *(np.maximum(time - knot, 0.0) for knot in knots)])


def _powers(shape: str, time: Floats, knots: Floats) -> Floats:
    """What a curve that is straight in its coefficients is made of, (n, k)."""
    return _bent(time, knots) if shape == "piecewise" else np.vander(time, 2 + (shape == "quadratic"), increasing=True)


def _apart(rate: float) -> float:
    return rate if abs(rate) > 1e-9 else 1e-9


def _robust_spread(rest: Floats) -> float:
    return max(1.4826 * float(np.median(np.abs(rest - np.median(rest)))), 1e-9)


def _start(shape: str, time: Floats, scaled: Floats, knots: Floats, capacity: float | None) -> Floats:
    """Coefficients to begin from."""
    if shape == "piecewise":
        return np.asarray(np.linalg.lstsq(_bent(time, knots), scaled)[0])
    if shape in ("linear", "quadratic"):
        return np.asarray(np.polynomial.polynomial.polyfit(time, scaled, 1 if shape == "linear" else 2))
    level, slope = np.polynomial.polynomial.polyfit(time, scaled, 1)
    if shape == "exponential":
        late, early = scaled[len(scaled) // 2 :], scaled[: len(scaled) // 2]
        rise = (late[-1] - late[0]) / max(abs(early[-1] - early[0]), 1e-6)
        return np.array([level, slope, float(np.clip(np.log(max(abs(rise), 1e-3)), -3, 3))])
    top = 1.1 * float(scaled.max()) if capacity is None else capacity
    share = np.clip(scaled / _apart(top), 0.02, 0.98)
    turn, rate = np.polynomial.polynomial.polyfit(time, np.log(share / (1 - share)), 1)
    rate = _apart(rate)
    return np.array([rate, -turn / rate] + ([] if capacity is not None else [top]))
