"""Curves through a whole series as forecasters: lines, parabolas, growth, saturation, pieces."""

from collections.abc import Callable
from typing import ClassVar, Literal

import numpy as np
from pydantic import Field, model_validator
from scipy import optimize

from proteron.core.errors import TooShortError
from proteron.core.forecasters.criteria import information
from proteron.core.forecasters.forecaster import ForecasterState, Work
from proteron.core.forecasters.local import Learned, LocalForecaster
from proteron.core.forecasters.noise import Noise
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints

Shape = Literal["linear", "quadratic", "exponential", "saturating", "piecewise"]
_MOST_KNOTS = 5
_OUTLYING = 1.345  # of Huber's loss, in robust spreads


class TrendCurve(LocalForecaster):
    """A curve in time by least squares, plain or with Huber's loss, carried on beyond the cutoff.

    Time runs from 0 at the first known point to 1 at the last. Ranges hold the doubt about the curve (linearised) and
    the spread around it (Seber & Wild 1989, § 5.1).
    """

    title: ClassVar[str] = "trend curve"
    family: ClassVar[str] = "trend"
    can: ClassVar[tuple[str, ...]] = ("trend", "gaps", "ranges")
    cost: ClassVar[float] = 50.0
    kind: Literal["trend_curve"] = "trend_curve"
    shape: Shape = Field("linear", title="Shape")
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
        values = known.series(index)
        at = np.flatnonzero(np.isfinite(values))
        least = {"linear": 3, "quadratic": 4, "exponential": 4, "saturating": 5, "piecewise": 6}[self.shape]
        if len(at) < least:
            raise TooShortError(f"A {self.shape} curve needs {least} known points; there are {len(at)}.", field="shape")
        first, span = int(at[0]), max(int(at[-1] - at[0]), 1)
        time = (at - first) / span
        unit = max(float(np.abs(values[at]).max()), 1e-300)
        scaled = values[at] / unit
        if self.shape != "piecewise":
            found = self._fitted(time, scaled, np.empty(0), unit)
        else:
            found = self._pieces(time, scaled, np.array(self.knots) / span, unit)
        coefficients, covariance, variance, knots = found
        count, free = len(at), len(coefficients) + 1
        loglik = -0.5 * count * (np.log(2 * np.pi * max(variance, 1e-300)) + 1) - count * np.log(unit)
        return Learned({
            "offset": first, "span": span, "unit": unit, "coefficients": coefficients, "covariance": covariance,
            "variance": variance * count / max(count - len(coefficients), 1), "knots": knots, "loglik": loglik,
            "count": count, "free": free,
        })  # fmt: skip

    def _fitted(
        self, time: Floats, scaled: Floats, knots: Floats, unit: float
    ) -> tuple[Floats, Floats, float, Floats]:  # fmt: skip
        """Coefficients (k,), their covariance, the variance around the curve, knots."""
        curve = self._curve(knots, unit)
        start = _start(self.shape, time, scaled, knots, None if self.capacity is None else self.capacity / unit)
        spread = _robust_spread(scaled - curve(time, start))
        loss = "huber" if self.robust else "linear"
        try:
            found = optimize.least_squares(
                lambda at: curve(time, at) - scaled, start, loss=loss, f_scale=_OUTLYING * spread, x_scale="jac",
                max_nfev=500,
            )  # fmt: skip
            coefficients, slopes = found.x, found.jac
        except ValueError as error:
            raise TooShortError(f"A {self.shape} curve does not go through these values.", field="shape") from error
        if self.robust:  # once more from there with the spread of what is left
            spread = _robust_spread(scaled - curve(time, coefficients))
            found = optimize.least_squares(
                lambda at: curve(time, at) - scaled, coefficients, loss=loss, f_scale=_OUTLYING * spread,
                x_scale="jac", max_nfev=500,
            )  # fmt: skip
            coefficients, slopes = found.x, found.jac
        rest = scaled - curve(time, coefficients)
        variance = _robust_spread(rest) ** 2 if self.robust else float((rest**2).mean())
        covariance = np.linalg.pinv(slopes.T @ slopes) * variance * len(rest) / max(len(rest) - len(coefficients), 1)
        return coefficients, covariance, variance, knots

    def _pieces(
        self, time: Floats, scaled: Floats, given: Floats, unit: float
    ) -> tuple[Floats, Floats, float, Floats]:  # fmt: skip
        """With the knots given, or added one by one where each helps most, as long as BIC falls."""
        if len(given):
            return self._fitted(time, scaled, given, unit)
        places = np.unique(np.quantile(time, np.linspace(0.05, 0.95, 37)))
        knots, best = np.empty(0), self._fitted(time, scaled, np.empty(0), unit)
        count = len(time)
        criterion = count * np.log(max(best[2], 1e-300)) + 2 * np.log(count)
        while len(knots) < min(_MOST_KNOTS, count // 4):
            tried = [
                (float(np.linalg.lstsq(_bent(time, np.append(knots, place)), scaled)[1].sum()), place)
                for place in places
                if len(knots) == 0 or np.abs(knots - place).min() > 0.03
            ]
            if not tried:
                break
            longer = np.sort(np.append(knots, min(tried)[1]))
            found = self._fitted(time, scaled, longer, unit)
            value = count * np.log(max(found[2], 1e-300)) + (2 + 2 * len(longer)) * np.log(count)
            if value >= criterion:
                break
            knots, best, criterion = longer, found, value
        return best

    def _curve(self, knots: Floats, unit: float) -> Callable[[Floats, Floats], Floats]:
        """The curve as a function of time (n,) and coefficients (k,), in units of the largest value."""
        if self.shape == "linear":
            return lambda t, c: c[0] + c[1] * t
        if self.shape == "quadratic":
            return lambda t, c: c[0] + c[1] * t + c[2] * t * t
        if self.shape == "exponential":
            return lambda t, c: c[0] + c[1] * np.expm1(np.clip(c[2] * t, -60, 60)) / _apart(c[2])
        if self.shape == "saturating":
            top = None if self.capacity is None else self.capacity / unit
            return lambda t, c: (c[2] if top is None else top) / (1 + np.exp(-np.clip(c[0] * (t - c[1]), -60, 60)))
        return lambda t, c: _bent(t, knots) @ c

    def _curve_at(self, learned: Learned, places: Floats) -> Floats:
        coefficients = learned["coefficients"][np.isfinite(learned["coefficients"])]
        knots = learned["knots"][np.isfinite(learned["knots"])]
        time = (places - float(learned["offset"])) / float(learned["span"])
        unit = float(learned["unit"])
        return self._curve(knots, unit)(time.ravel(), coefficients).reshape(time.shape) * unit

    def means_of(self, learned: Learned, values: Floats, at: Ints, horizon: int) -> Floats:
        """Means (n_origins, horizon) after `at` points of `values` (n_points,)."""
        return self._curve_at(learned, at[:, None] + np.arange(horizon, dtype=np.float64))

    def spreads_of(self, learned: Learned, values: Floats, at: int, horizon: int) -> Floats | None:
        """Standard deviations (horizon,) after `at` points, by theory."""
        coefficients = learned["coefficients"][np.isfinite(learned["coefficients"])]
        size, unit = len(coefficients), float(learned["unit"])
        curve = self._curve(learned["knots"][np.isfinite(learned["knots"])], unit)
        time = np.asarray((at + np.arange(float(horizon)) - float(learned["offset"])) / float(learned["span"]), float)
        steps = 1e-6 * np.maximum(np.abs(coefficients), 1e-3)
        slopes = np.stack(
            [
                (curve(time, coefficients + step) - curve(time, coefficients - step)) / (2 * steps[i])
                for i, step in enumerate(np.diag(steps))
            ]
        )
        doubt = np.einsum("ih,ij,jh->h", slopes, learned["covariance"][:size, :size], slopes)
        return unit * np.sqrt(np.maximum(doubt, 0.0) + float(learned["variance"]))

    def paths_of(self, learned: Learned, values: Floats, at: int, noise: Noise) -> Floats | None:
        """Paths (count, horizon) after `at` points, driven by the errors of `noise`."""
        count, horizon = noise.errors.shape
        spread = self.spreads_of(learned, values, at, horizon)
        own = float(learned["unit"]) * np.sqrt(float(learned["variance"]))
        assert spread is not None
        doubt = np.sqrt(np.maximum(spread**2 - own**2, 0.0))
        moves = own * noise.errors + noise.rng.normal(size=(count, 1)) * doubt
        return self.means_of(learned, values, np.array([at]), horizon)[0] + moves

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
        return [
            (name, float(value) * scale) for (name, scale), value in zip(scales[self.shape], of[:size], strict=False)
        ]

    def criteria(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Log-likelihood and criteria of one series, where there is a likelihood."""
        learned = self.learned(state, key)
        if learned is None:
            return {}
        return information(float(learned["loglik"]), int(learned["free"]), int(learned["count"]))

    def summary_of(self, learned: Learned) -> str:
        """What was learned of one series, in one sentence."""
        named = dict(self._named(learned, learned["coefficients"]))
        if self.shape == "linear":
            return f"y = {named['level']:.4g} {named['slope']:+.4g} t, t in steps from the first known point."
        if self.shape == "quadratic":
            return f"y = {named['level']:.4g} {named['slope']:+.4g} t {named['bend']:+.4g} t²."
        if self.shape == "exponential":
            return f"From {named['level']:.4g}, {named['slope']:+.4g} a step at first, {named['rate']:+.2%} more each."
        if self.shape == "saturating":
            top = named.get("capacity", self.capacity)
            return f"Towards {top:.4g}, half of it {named['middle']:.0f} steps after the first known point."
        span = float(learned["span"])
        places = ", ".join(f"{knot * span:.0f}" for knot in learned["knots"][np.isfinite(learned["knots"])])
        return f"From {named['level']:.4g}, {named['slope']:+.4g} a step, bent after {places or 'no'} steps."


def _bent(time: Floats, knots: Floats) -> Floats:
    """Columns of a line that bends at knots, (n, 2 + k)."""
    return np.column_stack([np.ones(len(time)), time, *(np.maximum(time - knot, 0.0) for knot in knots)])


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
