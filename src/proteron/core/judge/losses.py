"""Losses: one metric at every scored point of an experiment, and what is told from them."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, Literal

import numpy as np

from proteron.core.errors import SettingsError
from proteron.core.judge.folds import Fold
from proteron.core.judge.metrics import METRICS, Metric, metric_of
from proteron.core.judge.yardsticks import Yardsticks
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import CalendarField, calendar_codes

View = Literal["step", "fold", "series", "slot", "hour_of_week", "weekday", "month"]
_CALENDAR: tuple[CalendarField, ...] = ("hour_of_week", "weekday", "month")
Weighting = Literal["points", "series", "size"]
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
    origins end in NaN. `beside` (n_folds, n_series, n_origins, horizon) is the metric's yardstick, where it has one.
    With `weights` (n_series,) the means of series are weighed by them, whatever number of points each has.
    """

    metric: str
    names: tuple[str, ...]
    values: Floats
    beside: Floats | None = None
    weights: Floats | None = None

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
        return metric_of(self.metric)

    def of(self, name: str) -> Floats:
        """The losses of one entrant, (n_folds, n_series, n_origins, horizon)."""
        return np.asarray(self.values[self.names.index(name)])

    def common(self, names: Sequence[str]) -> "Losses":
        """Of some entrants alone, NaN wherever any of them has no forecast."""
        values = self.values[[self.names.index(name) for name in names]]
        there = np.isfinite(values).all(axis=0)
        return replace(self, names=tuple(names), values=np.where(there, values, np.nan))

    def by(self, view: View, panel: Panel, folds: Sequence[Fold]) -> Breakdown:
        """Reported values by step ahead, fold, series, or slot of the calendar: hour, weekday or month as the step has
        it, or one of those that are asked for by name (hour of the week from Monday 0 o'clock)."""
        if view == "slot":
            return self._by_slot(_SLOT_OF_STEP.get(panel.axis.step.unit, "month"), panel, folds)
        if view in _CALENDAR:
            return self._by_slot(view, panel, folds)
        axes = {"step": (1, 2, 3), "fold": (2, 3, 4), "series": (1, 3, 4)}
        if view not in axes:
            raise SettingsError(
                f"Losses are told by step, fold, series, slot, hour of week, weekday or month, not by “{view}”.",
                field="by",
            )
        labels: dict[str, Sequence[object]] = {
            "step": [folds[0].gap + step for step in range(1, self.values.shape[4] + 1)] if folds else [],
            "fold": range(1, len(folds) + 1), "series": panel.keys,
        }  # fmt: skip
        return Breakdown(self.names, tuple(map(str, labels[view])), self.reported(axes[view]))

    def reported(self, axes: tuple[int, ...], here: Any = True) -> Floats:
        """What the metric reports over some axes (1 folds, 2 series, 3 origins, 4 steps) of the points in `here`."""
        known = np.isfinite(self.values) & here
        metric = self.report
        if metric is not None and metric.pooling != "mean":
            return _extreme(np.where(known, self.values, np.nan), metric.pooling, axes)
        told = [self.values] if self.beside is None else [self.values, self.beside]
        means = [mean_over(np.where(known, each, 0.0), known, axes, 2, self.weights) for each in told]
        return reported_of(self.metric, *means)

    def _by_slot(self, field: CalendarField, panel: Panel, folds: Sequence[Fold]) -> Breakdown:
        codes = np.full(self.values.shape[1:2] + self.values.shape[3:], -1)
        for place, fold in enumerate(folds):
            steps = fold.origins[:, None] + fold.gap + np.arange(fold.horizon)
            codes[place, : steps.shape[0], : steps.shape[1]] = calendar_codes(field, panel.axis.local(steps))
        present = [code for code in np.unique(codes) if code >= 0]
        told = [self.reported((1, 2, 3, 4), (codes == code)[None, :, None]) for code in present]
        values = np.array(told).reshape(len(present), len(self.names)).T
        return Breakdown(self.names, tuple(f"{field} {code}" for code in present), values)


class Told(Mapping[str, Losses]):
    """The losses of every metric, made from those that are kept when one asks for them.

    By `weighting`, all scored points count alike, or all series, or series by the mean size of their scored truth.
    """

    def __init__(
        self, kept: Mapping[str, Losses], yardsticks: Yardsticks, weighting: Weighting = "points"
    ) -> None:  # fmt: skip
        self._kept = kept
        self.yardsticks = yardsticks
        self.weighting = weighting
        self._made: dict[str, Losses] = {}

    def lacking(self, metrics: Iterable[str]) -> list[str]:
        """Names of the losses that these metrics are told from and that are not here."""
        wanted = ((name, metric_of(name)) for name in metrics)
        names = dict.fromkeys(name if metric is None else metric.loss.name for name, metric in wanted)
        return [name for name in names if name not in self._kept]

    def joined_by(self, kept: Mapping[str, Losses]) -> "Told":
        """With more losses that are kept."""
        return Told({**self._kept, **kept}, self.yardsticks, self.weighting)

    def weighted(self, weighting: Weighting) -> "Told":
        """The same losses, series weighed otherwise."""
        return self if weighting == self.weighting else Told(self._kept, self.yardsticks, weighting)

    @property
    def names_kept(self) -> tuple[str, ...]:
        """Names of the losses that are kept."""
        return tuple(self._kept)

    def kept(self, name: str) -> Losses:
        """Losses as they are kept; raises `KeyError`."""
        return self._kept[name]

    def __getitem__(self, name: str) -> Losses:
        metric = metric_of(name)
        if metric is None or metric.loss.name not in self._kept:
            return replace(self._kept[name], weights=self._weights)
        if name not in self._made:
            self._made[name] = self._make(metric)
        return self._made[name]

    def __iter__(self) -> Iterator[str]:
        yield from dict.fromkeys([*METRICS, *self._kept])

    def __len__(self) -> int:
        return len(list(iter(self)))

    def _make(self, metric: Metric) -> Losses:
        kept = self._kept[metric.loss.name]
        values = metric.point(kept.values)
        if metric.yardstick is None:
            return Losses(metric.name, kept.names, values, weights=self._weights)
        beside = self.yardsticks.of(metric.yardstick)
        there = np.where(np.isfinite(beside), values, np.nan)
        return Losses(metric.name, kept.names, there, beside, self._weights)

    @cached_property
    def _weights(self) -> Floats | None:
        if self.weighting == "points":
            return None
        sizes = np.moveaxis(self.yardsticks.of("size"), 1, 0).reshape(len(self.yardsticks.panel), -1)
        known = np.isfinite(sizes)
        if self.weighting == "series":
            return np.ones(len(sizes))
        return np.asarray(np.where(known, sizes, 0.0).sum(axis=1) / np.maximum(known.sum(axis=1), 1))


def mean_over(sums: Any, counts: Any, axes: tuple[int, ...], series: int, weights: Floats | None) -> Floats:
    """Mean of sums over so many points along some axes, NaN over none; means along axis `series` weighed, if at all."""
    sums, counts = np.asarray(sums), np.asarray(counts)
    with np.errstate(invalid="ignore", divide="ignore"):
        if weights is None or series not in axes:
            return np.asarray(sums.sum(axis=axes) / counts.sum(axis=axes))
        inner = tuple(axis for axis in axes if axis != series)
        there = counts.sum(axis=inner, keepdims=True)
        each = sums.sum(axis=inner, keepdims=True) / there
        shape = [-1 if axis == series else 1 for axis in range(sums.ndim)]
        weight = np.where(there > 0, weights.reshape(shape), 0.0)
        mean = np.where(weight > 0, each * weight, 0.0).sum(axis=series, keepdims=True) / weight.sum(
            axis=series, keepdims=True
        )
        return np.asarray(mean.squeeze(axis=axes))


def reported_of(metric: str, mean: Any, beside: Any = None) -> Floats:
    """What a metric reports for a mean loss, and the mean of its yardstick."""
    known = metric_of(metric)
    return np.asarray(np.sqrt(mean)) if known is None else known.told(mean, beside)


def _extreme(values: Floats, pooling: str, axes: tuple[int, ...]) -> Floats:
    """Median or largest over some axes, NaN over nothing."""
    kept = [axis for axis in range(values.ndim) if axis not in axes]
    flat = np.moveaxis(values, kept, range(len(kept))).reshape(*(values.shape[axis] for axis in kept), -1)
    out = np.full(flat.shape[:-1], np.nan)
    some = np.isfinite(flat).any(axis=-1)
    if some.any():
        out[some] = (np.nanmedian if pooling == "median" else np.nanmax)(flat[some], axis=-1)
    return out


def losses_at(losses: Mapping[str, Losses], metric: str) -> Losses:
    """Raise `SettingsError` where a metric was not gathered."""
    if metric not in losses:
        raise SettingsError(f"There is no metric “{metric}” here; there are: {', '.join(losses)}.", field="metric")
    return losses[metric]
