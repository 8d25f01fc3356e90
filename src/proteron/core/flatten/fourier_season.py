"""Seasons as sums of sines and cosines, also of periods that are no whole number of steps."""

from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.errors import TooShortError
from proteron.core.flatten.path import weighted_columns
from proteron.core.flatten.robust_lines import regress
from proteron.core.flatten.seasons import season_name, too_short
from proteron.core.flatten.stage import AdditiveStage, Calendar, Figure, Group, StageState, require
from proteron.core.panel import Floats
from proteron.core.timeline import Ints

_BEND = 3  # degree of the trend that is fitted along with the seasons and left in


def waves(positions: Ints, period: float, order: int) -> Floats:
    """Cosines and sines of `order` waves of `period` steps, (…, 2 · order)."""
    angles = 2 * np.pi * (np.asarray(positions, dtype=np.float64)[..., None] / period) * np.arange(1, order + 1)
    return np.concatenate([np.cos(angles), np.sin(angles)], axis=-1)


class FourierSeason(AdditiveStage):
    """Take out sines and cosines of one or several periods; a cubic trend is fitted along and left in.

    Without an order each period gets as many waves as the corrected AIC asks for (Hurvich & Tsai 1989).
    """

    title: ClassVar[str] = "seasons by waves"
    group: ClassVar[Group] = "season"
    kind: Literal["fourier_season"] = "fourier_season"
    needs: ClassVar[int] = 8
    shareable: ClassVar[bool] = False
    periods: tuple[Annotated[float, Field(ge=2)], ...] = Field(
        (), max_length=4, title="Periods", description="Steps in a cycle, fractions allowed; nothing: by the step."
    )
    order: int | None = Field(None, ge=1, le=40, title="Waves", description="Per period; nothing: chosen.")
    most: int = Field(12, ge=1, le=40, title="At most", description="Waves tried when they are chosen.")
    robust: bool = Field(True, title="Robust", description="Spikes cannot bend it.")

    def fit(self, values: Floats, positions: Ints, calendar: Calendar) -> StageState:
        """Learn from known values (n_known,) at grid `positions`; raises `TooShortError` or `UnitsError`."""
        require(values, self.needs, self.title)
        wanted = self.periods or calendar.axis.step.seasons
        periods = [period for period in wanted if len(values) >= 2 * period]
        notes = tuple(too_short(period, len(values), calendar) for period in wanted if period not in periods)
        if not periods:
            raise TooShortError(" ".join(notes) or "The step implies no season; give a period.", field="periods")
        present = np.isfinite(values)
        at, known = positions[present], values[present]
        centre = float(np.median(known))
        bends = np.polynomial.legendre.legvander(np.linspace(-1, 1, len(values)), _BEND)
        nuisance = np.asarray(bends[present], dtype=np.float64)
        calm, orders = self._orders(at, known - centre, nuisance, periods)
        columns = [waves(at, period, order) for period, order in zip(periods, orders, strict=True)]
        design = np.concatenate([nuisance, *columns], axis=1)
        fit = regress(design, calm)
        if self.robust:
            fit = regress(design, known - centre, "tukey", start=fit.weights)
        arrays: dict[str, Floats | np.float64] = {"periods": np.array(periods), "orders": np.array(orders, float)}
        arrays["weights"] = fit.weights[nuisance.shape[1] :]
        notes += () if fit.converged else ("the reweighting did not settle",)
        return StageState(arrays, notes)

    def _orders(self, at: Ints, values: Floats, nuisance: Floats, periods: list[float]) -> tuple[Floats, list[int]]:
        """The values, their spikes clipped where it is robust, and how many waves each period gets.

        Orders are chosen in turn, the longest period last, so that nested ones do not repeat.
        """
        limits = [min(int(period // 2), self.order or self.most) for period in periods]
        if self.robust:  # so that spikes do not ask for waves
            rough = np.concatenate([nuisance, *[waves(at, p, k) for p, k in zip(periods, limits, strict=True)]], axis=1)
            smooth = rough @ regress(rough, values, "huber", rounds=4).weights
            spread = 1.4826 * float(np.median(np.abs(values - smooth)))
            values = smooth + np.clip(values - smooth, -3 * spread, 3 * spread)
        if self.order is not None:
            return values, limits
        size, base, orders = len(values), nuisance, []
        for period, limit in zip(periods, limits, strict=True):
            block = waves(at, period, limit)
            paired = block.reshape(size, 2, limit).transpose(0, 2, 1).reshape(size, 2 * limit)  # wave by wave
            q, _ = np.linalg.qr(np.concatenate([base, paired], axis=1))
            squares = (q.T @ values) ** 2
            rest = float(values @ values) - np.cumsum(squares)
            columns = base.shape[1] + 2 * np.arange(limit + 1)
            variance = np.maximum(rest[columns - 1], 1e-300) / size
            room = np.maximum(size - columns - 2, 1)
            order = int(np.argmin(np.log(variance) + 2 * (columns + 1) / room))
            orders.append(max(order, 1))
            base = np.concatenate([base, waves(at, period, orders[-1])], axis=1)
        return values, orders

    def parts(self, state: StageState, positions: Ints, calendar: Calendar) -> dict[str, Floats]:
        """What is taken out at `positions`, (n_positions,) by name."""
        out, start = {}, 0
        for period, order in zip(state.array("periods"), state.array("orders").astype(int), strict=True):
            weights = state.array("weights")[start : start + 2 * order]
            out[season_name(period, calendar)] = weighted_columns(waves(positions, period, order), weights)
            start += 2 * order
        return out

    def facts(self, state: StageState) -> dict[str, float]:
        """What was learned, as numbers by name."""
        pairs = zip(state.array("periods"), state.array("orders"), strict=True)
        return {f"waves of {period:g}": float(order) for period, order in pairs}

    def figures(self, state: StageState, calendar: Calendar) -> list[Figure]:
        """What was learned, as pictures."""
        figures = []
        for period in state.array("periods"):
            phases = np.arange(0, int(np.ceil(period)), max(int(period) // 400, 1))
            part = self.parts(state, phases, calendar)[season_name(period, calendar)]
            labels = tuple(str(phase) for phase in phases)
            figures.append(Figure(season_name(period, calendar), labels, tuple(part.tolist()), "curve"))
        return figures
