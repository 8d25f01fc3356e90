"""Naive forecasters: the bar that everything else has to clear."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.forecasters.forecaster import Forecaster, ForecasterState, Work, local_origins
from proteron.core.panel import Floats, Panel
from proteron.core.phases import previous_of_phase
from proteron.core.timeline import Ints


def _last_known(panel: Panel, index: int, origins: Ints) -> Floats:
    """The last known value of one series as of each origin, NaN before its first."""
    return previous_of_phase(panel.series(index), 1)[local_origins(panel, index, origins)]


class LastValue(Forecaster):
    """The last known value, for every step ahead."""

    title: ClassVar[str] = "last value"
    kind: Literal["last_value"] = "last_value"

    def learn(self, known: Panel, work: Work) -> ForecasterState:
        return ForecasterState(known.keys)

    def means(self, state: ForecasterState, panel: Panel, origins: Ints, horizon: int) -> Floats:
        last = np.stack([_last_known(panel, index, origins) for index in range(len(panel))])
        return np.repeat(last[:, :, None], horizon, axis=2)

    def summary(self, state: ForecasterState, key: str) -> str:
        return "Every step ahead equals the last known value."


class SeasonalLastValue(Forecaster):
    """The last known value of the same phase; where it was never known, the last value."""

    title: ClassVar[str] = "same season last cycle"
    kind: Literal["seasonal_last_value"] = "seasonal_last_value"
    period: int | None = Field(
        None, ge=1, title="Period", description="Steps in a cycle; empty: the step's own season."
    )

    def learn(self, known: Panel, work: Work) -> ForecasterState:
        return ForecasterState(known.keys, facts={"period": self.period or known.axis.step.season})

    def means(self, state: ForecasterState, panel: Panel, origins: Ints, horizon: int) -> Floats:
        period = int(state.facts["period"])
        out = np.empty((len(panel), len(origins), horizon))
        for index in range(len(panel)):
            references = previous_of_phase(panel.series(index), period)
            ahead = local_origins(panel, index, origins)[:, None] + np.arange(horizon) % period
            last = _last_known(panel, index, origins)[:, None]
            out[index] = np.where(np.isnan(references[ahead]), last, references[ahead])
        return out

    def summary(self, state: ForecasterState, key: str) -> str:
        return f"Every step equals the last known value {state.facts['period']} steps or whole cycles before it."

    @property
    def label(self) -> str:
        return f"{self.title}, {self.period}" if self.period else self.title


class Drift(Forecaster):
    """The last value, carried on along the line from the first to the last known value."""

    title: ClassVar[str] = "drift"
    kind: Literal["drift"] = "drift"

    def learn(self, known: Panel, work: Work) -> ForecasterState:
        slopes = np.zeros(len(known))
        for index in range(len(known)):
            at = np.flatnonzero(~np.isnan(known.series(index)))
            if len(at) > 1:
                values = known.series(index)[at]
                slopes[index] = (values[-1] - values[0]) / (at[-1] - at[0])
        return ForecasterState(known.keys, {"slope": slopes})

    def means(self, state: ForecasterState, panel: Panel, origins: Ints, horizon: int) -> Floats:
        out = np.empty((len(panel), len(origins), horizon))
        for index, key in enumerate(panel.keys):
            rise = state.arrays["slope"][state.row(key)] * np.arange(1, horizon + 1)
            out[index] = _last_known(panel, index, origins)[:, None] + rise
        return out

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        return {"drift": float(state.arrays["slope"][state.row(key)])}

    def summary(self, state: ForecasterState, key: str) -> str:
        return f"The last known value, plus {self.parameters(state, key)['drift']:.4g} per step."


class Mean(Forecaster):
    """The mean of all known values, for every step ahead."""

    title: ClassVar[str] = "mean"
    kind: Literal["mean"] = "mean"

    def learn(self, known: Panel, work: Work) -> ForecasterState:
        means = np.full(len(known), np.nan)
        for index in range(len(known)):
            values = known.series(index)
            if not np.isnan(values).all():
                means[index] = np.nanmean(values)
        return ForecasterState(known.keys, {"mean": means})

    def means(self, state: ForecasterState, panel: Panel, origins: Ints, horizon: int) -> Floats:
        rows = [state.row(key) for key in panel.keys]
        return np.broadcast_to(state.arrays["mean"][rows, None, None], (len(rows), len(origins), horizon)).copy()

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        return {"mean": float(state.arrays["mean"][state.row(key)])}

    def summary(self, state: ForecasterState, key: str) -> str:
        return f"Every step ahead equals the mean so far, {self.parameters(state, key)['mean']:.6g}."
