"""Vector autoregression: every series from the pasts of all (Lütkepohl 2005), or from what these share."""

from collections.abc import Sequence
from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.errors import TooShortError
from proteron.core.forecasters.criteria import information
from proteron.core.forecasters.forecaster import Forecaster, ForecasterState, Work
from proteron.core.forecasters.ranges import normal_bounds
from proteron.core.panel import Floats, Panel
from proteron.core.phases import previous_of_phase
from proteron.core.timeline import Ints

_MOST_SERIES = 60
_MOST_LAGS = 12
_EXPLODES = 1.2  # a largest root that doubles in four steps


class VectorAutoregression(Forecaster):
    """Each series on the last values of all series, by least squares; the number of lags is given or chosen.

    With `factors`, on so many combinations of them that all series share: regression of reduced rank, by maximum
    likelihood (Anderson 1951). Learned where all series are known; what is missing afterwards counts as the last value
    known.
    """

    title: ClassVar[str] = "vector autoregression"
    family: ClassVar[str] = "ARIMA"
    can: ClassVar[tuple[str, ...]] = ("trend", "ranges")
    panel_wide: ClassVar[bool] = True
    joint: ClassVar[bool] = True
    cost: ClassVar[float] = 50.0
    kind: Literal["vector_autoregression"] = "vector_autoregression"
    order: int | None = Field(None, ge=1, le=60, title="Lags", description="Empty: chosen by the criterion.")
    choose_by: Literal["aic", "bic"] = Field("bic", title="Choose by")
    factors: int | None = Field(
        None, ge=1, le=_MOST_SERIES, title="Shared factors",
        description="Combinations of the past that all series share; empty: no such limit.",
    )  # fmt: skip

    @property
    def label(self) -> str:
        """A short name with the settings that matter."""
        return self.title if self.factors is None else f"{self.title}, {self.factors} shared"

    def objection(self, known: Panel) -> str | None:
        """What speaks against a panel of one series that has points enough; None: nothing."""
        if not np.isfinite(known.values).all():
            return f"It learns where all are known; {int(np.isnan(known.values).sum()):,} points are missing."
        return None

    def learn(self, known: Panel, work: Work) -> ForecasterState:
        """Learn from flat values that end at the cutoff; raises `ProteronError` where that cannot be."""
        if len(known) > _MOST_SERIES:
            raise TooShortError(
                f"{len(known)} series are too many for a vector autoregression; it takes {_MOST_SERIES}.", field="order"
            )
        cells = _together(known)
        if not np.isfinite(cells).any(axis=0).all():
            raise TooShortError("One of the series is not known at all.", field="until")
        centre, spread = np.nanmean(cells, axis=0), np.nanstd(cells, axis=0)
        spread = np.where(spread > 1e-12 * np.maximum(np.abs(centre), 1e-300), spread, 1.0)
        scaled = (cells - centre) / spread
        count, width = scaled.shape
        most = min(_MOST_LAGS, max((count // max(width, 1) - 2) // 2, 0)) if self.order is None else self.order
        if most < 1 or count <= most * (width + 1) + 1:
            raise TooShortError(
                f"A vector autoregression of {width} series needs more than {count} points where all are known.",
                field="order",
            )
        lags = [self.order] if self.order is not None else list(range(1, most + 1))
        tried: list[dict[str, Any]] = []
        best: tuple[float, int] | None = None
        for order in lags:
            fitted = _fitted(scaled, order, most, self.factors)
            if fitted is None:
                continue
            slopes, covariance, rows, _ = fitted
            if _largest_root(slopes) > _EXPLODES:
                tried.append({"form": f"{order} lags", "criterion": None, "reason": "it explodes"})
                continue
            free = _free(width, order, self.factors)
            logs = np.linalg.slogdet(covariance + 1e-300 * np.eye(width))[1]
            value = logs + free * (np.log(rows) if self.choose_by == "bic" else 2.0) / rows
            tried.append({"form": f"{order} lags", "criterion": float(value)})
            if best is None or value < best[0]:
                best = (value, order)
        if best is None:
            raise TooShortError(
                "There are too few points in a row where all series are known, or what they make of the past explodes.",
                field="order",
            )
        final = _fitted(scaled, best[1], best[1], self.factors)
        assert final is not None
        slopes, covariance, rows, inverse = final
        loglik = -0.5 * rows * (width * (np.log(2 * np.pi) + 1) + float(np.linalg.slogdet(covariance)[1]))
        arrays = {"centre": centre, "spread": spread, "slopes": slopes.T.copy(), "covariance": covariance,
                  "inverse": inverse}  # fmt: skip
        facts = {"order": best[1], "tried": tried, "rows": rows, "loglik": float(loglik),
                 "free": _free(width, best[1], self.factors)}  # fmt: skip
        return ForecasterState(known.keys, arrays, facts)

    def means(self, state: ForecasterState, panel: Panel, origins: Ints, horizon: int) -> Floats:
        """Flat means (n_series, n_origins, horizon), each reading points before its origin only."""
        order, count = int(state.facts["order"]), len(state.keys)
        out = np.full((len(panel), len(origins), horizon), np.nan)
        rows = [panel.keys.index(key) if key in panel.keys else -1 for key in state.keys]
        if min(rows) < 0:
            return out
        for place, origin in enumerate(origins.tolist()):
            past = np.full((order, count), np.nan)
            for column, index in enumerate(rows):
                local = min(origin - int(panel.starts[index]), int(panel.lengths[index]))
                if local >= 1:
                    last = previous_of_phase(np.ascontiguousarray(panel.series(index)[:local]), 1)[: local + 1]
                    past[:, column] = last[np.maximum(np.arange(local - order + 1, local + 1), 1)]
            scaled = (past - state.arrays["centre"]) / state.arrays["spread"]
            for h in range(horizon):
                row = np.concatenate([[1.0], scaled[::-1].ravel()])
                mean = state.arrays["slopes"] @ row
                scaled = np.vstack([scaled[1:], mean]) if order > 1 else mean[None]
                out[rows, place, h] = mean * state.arrays["spread"] + state.arrays["centre"]
        return out

    def _impulses(self, state: ForecasterState, horizon: int) -> Floats:
        """Moving-average matrices (horizon, k, k)."""
        order, width = int(state.facts["order"]), len(state.keys)
        blocks = state.arrays["slopes"][:, 1:].reshape(width, order, width)
        out = np.zeros((horizon, width, width))
        out[0] = np.eye(width)
        for h in range(1, horizon):
            for lag in range(min(order, h)):
                out[h] += blocks[:, lag] @ out[h - 1 - lag]
        return out

    def ranges_from(
        self, state: ForecasterState, panel: Panel, origin: int, horizon: int, levels: Sequence[float], draws: int
    ) -> Floats | None:
        """Flat ranges from one origin by theory, (n_levels, 2, n_series, horizon)."""
        mean = self.means(state, panel, np.array([origin]), horizon)[:, 0]
        weights, covariance = self._impulses(state, horizon), _ahead_covariance(state)
        steps = np.cumsum([np.diag(each @ covariance @ each.T) for each in weights], axis=0)
        spread = np.sqrt(steps).T * state.arrays["spread"][:, None]
        rows = [state.row(key) for key in panel.keys]
        return normal_bounds(mean, spread[rows], levels)

    def simulate(
        self, state: ForecasterState, panel: Panel, origin: int, horizon: int, count: int, seed: int
    ) -> Floats | None:
        """Joint paths: the errors of all series are drawn together."""
        mean = self.means(state, panel, np.array([origin]), horizon)[:, 0]
        width = len(state.keys)
        covariance = _ahead_covariance(state)
        even = 0.5 * (covariance + covariance.T)
        draws = np.random.default_rng(seed).multivariate_normal(
            np.zeros(width), even, size=(count, horizon), method="eigh", check_valid="ignore"
        )
        weights = self._impulses(state, horizon)
        moves = np.zeros((count, horizon, width))
        for back in range(horizon):
            moves[:, back:] += draws[:, : horizon - back] @ weights[back].T
        rows = [state.row(key) for key in panel.keys]
        return mean[None] + (moves * state.arrays["spread"]).transpose(0, 2, 1)[:, rows]

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Coefficients of this series in its own unit, by series and lag."""
        row, spread, centre = state.row(key), state.arrays["spread"], state.arrays["centre"]
        order = int(state.facts["order"])
        slopes = state.arrays["slopes"][row, 1:].reshape(order, len(state.keys)) * spread[row] / spread
        constant = state.arrays["slopes"][row, 0] * spread[row] + centre[row] - (slopes @ centre).sum()
        named = {f"{name} lag {lag + 1}": float(slopes[lag, column])
                 for lag in range(order) for column, name in enumerate(state.keys)}  # fmt: skip
        return {"constant": float(constant)} | named

    def standard_errors(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Those of least squares; none where factors are shared."""
        if self.factors is not None and self.factors < len(state.keys):
            return {}
        row, spread, names = state.row(key), state.arrays["spread"], list(self.parameters(state, key))
        order = int(state.facts["order"])
        centred = np.tile(state.arrays["centre"] / spread, order)
        turned = np.diag(np.concatenate([[1.0], np.tile(1 / spread, order)])) * spread[row]
        turned[0, 1:] = -centred * spread[row]  # the constant belongs to values as they are
        spans = np.einsum("ij,jk,ik->i", turned, state.arrays["inverse"], turned)
        errors = np.sqrt(state.arrays["covariance"][row, row] * spans)
        return dict(zip(names, errors.tolist(), strict=True))

    def criteria(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Of all equations together."""
        width, rows = len(state.keys), int(state.facts["rows"])
        free = int(state.facts["free"]) + width * (width + 1) // 2
        return information(float(state.facts["loglik"]), free, rows * width)

    def summary(self, state: ForecasterState, key: str) -> str:
        """What was learned of one series, in one sentence."""
        count, order = len(state.keys), int(state.facts["order"])
        past = f"the last {order} values of all" if order > 1 else "the last value of all"
        if self.factors is not None and self.factors < count:
            past = f"{self.factors} shared combination{'s' if self.factors > 1 else ''} of {past}"
        return f"Each of {count} series from {past}, learned on {state.facts['rows']:,} points."


def _free(width: int, order: int, factors: int | None) -> int:
    """Numbers that are estimated: a constant for each series, and its slopes, of so many factors."""
    rank = min(factors or width, width)
    return width + rank * (width + width * order - rank)


def _ahead_covariance(state: ForecasterState) -> Floats:
    """Covariance (k, k) of one-step errors to come, the slopes having been estimated (Akaike 1969)."""
    rows, spent = int(state.facts["rows"]), float(state.facts["free"]) / len(state.keys)
    return np.asarray(state.arrays["covariance"] * (rows + spent) / max(rows - spent, rows / 4))


def _largest_root(slopes: Floats) -> float:
    """By how much the largest deviation grows a step in the end, from slopes (1 + k × order, k)."""
    width = slopes.shape[1]
    size = len(slopes) - 1
    companion = np.eye(size, k=-width)
    companion[:width] = slopes[1:].T
    return float(np.abs(np.linalg.eigvals(companion)).max(initial=0.0))


def _together(panel: Panel) -> Floats:
    """Values of all series over the time they share (n, k)."""
    start, stop = int(panel.starts.max()), int((panel.starts + panel.lengths).min())
    if stop <= start:
        raise TooShortError("The series never overlap in time.", field="until")
    cells: list[Any] = [
        panel.series(i)[start - int(panel.starts[i]) : stop - int(panel.starts[i])] for i in range(len(panel))
    ]
    return np.column_stack(cells)


def _fitted(
    scaled: Floats, order: int, skipped: int, factors: int | None
) -> tuple[Floats, Floats, int, Floats] | None:  # fmt: skip
    """Slopes (1 + k × order, k), covariance of the errors (k, k), rows, inverse of the normal equations' matrix.

    Rows before `skipped` are left out; slopes are of rank `factors`.
    """
    count = len(scaled)
    columns = [np.ones(count - skipped)] + [scaled[skipped - lag : count - lag] for lag in range(1, order + 1)]
    rows, target = np.column_stack(columns), scaled[skipped:]
    whole = np.isfinite(rows).all(axis=1) & np.isfinite(target).all(axis=1)
    rows, target = rows[whole], target[whole]
    if len(rows) <= rows.shape[1] + 1:
        return None
    slopes = np.asarray(np.linalg.lstsq(rows, target)[0], dtype=np.float64)
    if factors is not None and factors < target.shape[1]:
        slopes = _of_rank(slopes, rows, target, factors)
    rest = target - rows @ slopes
    return (
        slopes,
        np.asarray(rest.T @ rest / len(rows)),
        len(rows),
        np.asarray(np.linalg.pinv(rows.T @ rows), dtype=np.float64),
    )


def _of_rank(slopes: Floats, rows: Floats, target: Floats, rank: int) -> Floats:
    """Least-squares slopes (1 + m, k) brought down to a rank, the first row staying a free constant.

    What the slopes explain is looked at in units of what they leave, and its largest directions are kept.
    """
    rest = target - rows @ slopes
    values, vectors = np.linalg.eigh(rest.T @ rest / len(rows))
    size = np.sqrt(np.maximum(values, 1e-12 * values.max()) if values.max() > 0 else np.ones_like(values))
    whiten, back = vectors / size, (vectors * size).T
    explained = (rows[:, 1:] - rows[:, 1:].mean(axis=0)) @ slopes[1:] @ whiten
    kept = np.linalg.svd(explained, full_matrices=False)[2][:rank]
    lower = slopes[1:] @ whiten @ kept.T @ kept @ back
    constant = target.mean(axis=0) - rows[:, 1:].mean(axis=0) @ lower
    return np.vstack([constant, lower])
