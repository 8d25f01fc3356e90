"""Losses: one metric at every scored point of an experiment, and what is summed from them."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from proteron.core.errors import SettingsError
from proteron.core.judge.folds import Fold
from proteron.core.judge.metrics import METRICS, Metric
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import CalendarField, calendar_codes

View = Literal["step", "fold", "series", "slot"]
_SLOT_OF_STEP: dict[str, CalendarField] = {
    "minute": "hour_of_day", "hour": "hour_of_day", "day": "weekday", "week": "month", "month": "month",
    "quarter": "quarter",
}  # fmt: skip


@dataclass(frozen=True)
class Breakdown:
    """A metric's reported values (n_entrants, n_labels) of every entrant by `labels`; NaN where nothing is scored."""

    names: tuple[str, ...]
    labels: tuple[str, ...]
    values: Floats


@dataclass(frozen=True)
class Losses:
    """The loss of every entrant at every point of one metric.

    `values` is (n_entrants, n_folds, n_series, n_origins, horizon), NaN where nothing was scored; folds with fewer
    origins end in NaN.
    """

    metric: str
    names: tuple[str, ...]
    values: Floats

    @classmethod
    def empty(cls, metric: str, names: Sequence[str], folds: Sequence[Fold], series: int) -> "Losses":
        """Nothing scored yet."""
        origins = max((len(fold.origins) for fold in folds), default=0)
        horizon = max((fold.horizon for fold in folds), default=0)
        return cls(metric, tuple(names), np.full((len(names), len(folds), series, origins, horizon), np.nan))

    def put(self, name: str, fold: int, series: Sequence[int], losses: Floats) -> None:
        """Take in the losses (n_series, n_origins, horizon) of one cell, while the whole is being gathered."""
        place = self.values[self.names.index(name), fold]
        place[list(series), : losses.shape[1], : losses.shape[2]] = losses

    @property
    def report(self) -> Metric | None:
        """The metric itself; None for losses that are kept beside the metrics."""
        return METRICS.get(self.metric)

    def of(self, name: str) -> Floats:
        """The losses of one entrant, (n_folds, n_series, n_origins, horizon)."""
        return np.asarray(self.values[self.names.index(name)])

    def by(self, view: View, panel: Panel, folds: Sequence[Fold]) -> Breakdown:
        """Reported values by step ahead, fold, series, or slot of the calendar (hour, weekday, month, by the step)."""
        if view == "slot":
            return self._by_slot(panel, folds)
        axes = {"step": (1, 2, 3), "fold": (2, 3, 4), "series": (1, 3, 4)}
        if view not in axes:
            raise SettingsError(f"Losses are told by step, fold, series or slot, not by “{view}”.", field="by")
        labels: dict[str, Sequence[object]] = {
            "step": [folds[0].gap + step for step in range(1, self.values.shape[4] + 1)] if folds else [],
            "fold": range(1, len(folds) + 1), "series": panel.keys,
        }  # fmt: skip
        known = np.isfinite(self.values)
        sums = np.where(known, self.values, 0.0).sum(axis=axes[view])
        return Breakdown(
            self.names, tuple(map(str, labels[view])), pooled(self.metric, sums, known.sum(axis=axes[view]))
        )

    def _by_slot(self, panel: Panel, folds: Sequence[Fold]) -> Breakdown:
        field = _SLOT_OF_STEP.get(panel.axis.step.unit, "month")
        codes = np.full(self.values.shape[1:2] + self.values.shape[3:], -1)
        for place, fold in enumerate(folds):
            steps = fold.origins[:, None] + fold.gap + np.arange(fold.horizon)
            codes[place, : steps.shape[0], : steps.shape[1]] = calendar_codes(field, panel.axis.local(steps))
        present = [code for code in np.unique(codes) if code >= 0]
        known = np.isfinite(self.values)
        filled = np.where(known, self.values, 0.0)
        sums, counts = np.zeros((2, len(self.names), len(present)))
        for column, code in enumerate(present):
            here = (codes == code)[None, :, None]
            sums[:, column] = np.where(here, filled, 0.0).sum(axis=(1, 2, 3, 4))
            counts[:, column] = (known & here).sum(axis=(1, 2, 3, 4))
        return Breakdown(self.names, tuple(f"{field} {code}" for code in present), pooled(self.metric, sums, counts))


def pooled(metric: str, sums: Any, counts: Any) -> Floats:
    """What a metric reports for sums of losses over so many points, NaN over none."""
    known = METRICS.get(metric)
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = np.asarray(sums) / np.asarray(counts)
        return np.asarray(known.report(mean) if known else np.sqrt(mean))


def losses_at(losses: Mapping[str, Losses], metric: str) -> Losses:
    """Raise `SettingsError` where a metric was not gathered."""
    if metric not in losses:
        raise SettingsError(f"There is no metric “{metric}” here; there are: {', '.join(losses)}.", field="metric")
    return losses[metric]
