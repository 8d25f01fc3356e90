"""Anomaly scores from out-of-sample residuals, scaled by a spread known before them."""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from proteron.core.errors import SettingsError
from proteron.core.flatten import Chain
from proteron.core.forecasters import Contender, forecaster
from proteron.core.judge import CellResult, Folds, walk_forward
from proteron.core.panel import Floats, Panel, require_panel
from proteron.core.timeline import Moment
from proteron.core.words import counted

_SCAN_FOLDS = 12


@dataclass(frozen=True)
class Flag:
    """A span marked as anomalous: local positions `start` ≤ p < `stop`, its highest score, its kind."""

    key: str
    start: int
    stop: int
    score: float
    kind: str
    time: str


@dataclass(frozen=True)
class Scores:
    """Per series, aligned with its points: expected value and score; NaN where nothing was scored."""

    panel: Panel
    expected: Floats
    score: Floats

    def series(self, index: int) -> tuple[Floats, Floats]:
        """Expected values and scores of one series, (n_points,) each."""
        part = slice(self.panel.offsets[index], self.panel.offsets[index + 1])
        return self.expected[part], self.score[part]

    def highest(self, index: int, until: Moment | None = None) -> float | None:
        """The highest score of one series known at `until`; None where nothing was scored by then."""
        score = self.series(index)[1][: int(self.panel.known_lengths(until)[index])]
        return float(np.nanmax(score)) if np.isfinite(score).any() else None


@dataclass(frozen=True, repr=False)
class Anomalies:
    """Scores, the threshold per series and the flags above it, in time order."""

    scores: Scores
    thresholds: dict[str, float]
    flags: tuple[Flag, ...]

    def __iter__(self) -> Any:
        return iter(self.flags)

    def __len__(self) -> int:
        return len(self.flags)

    def to_arrow(self) -> pa.Table:
        """One row per flag in time order: time (UTC), key, start and stop (positions), kind, score."""
        times = np.array([flag.time for flag in self.flags], dtype="datetime64[s]")
        columns: dict[str, Any] = {"time": pa.array(times, type=pa.timestamp("s", tz="UTC"))}
        kinds = {
            "key": pa.string(),
            "start": pa.int64(),
            "stop": pa.int64(),
            "kind": pa.string(),
            "score": pa.float64(),
        }
        for name, kind in kinds.items():
            columns[name] = pa.array([getattr(flag, name) for flag in self.flags], kind)
        return pa.table(columns)

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        return self.to_arrow().__arrow_c_stream__(requested_schema)

    def __repr__(self) -> str:
        kinds = ", ".join(f"{n} × {kind}" for kind, n in Counter(flag.kind for flag in self.flags).items())
        return f"Anomalies: {counted(len(self), 'flag')} over {len(self.thresholds)} series" + (
            f" ({kinds})" if kinds else ""
        )


def scan_folds(panel: Panel, count: int = _SCAN_FOLDS) -> Folds:
    """Folds that score every step of the last three quarters once, one step ahead."""
    known = panel.end - int(panel.starts.min())
    count = min(count, max(1, known // 16))
    span = max(1, (known - known // 4) // count)
    return Folds.expanding(count=count, horizon=1, span=span, every=1)


def residual_scores(panel: Panel, results: Sequence[CellResult]) -> Scores:
    """Absolute flat one-step residuals in robust spreads (MAD) learned before the cutoff of each fold."""
    expected = np.full(len(panel.values), np.nan)
    score = np.full(len(panel.values), np.nan)
    for result in results:
        for row, index in enumerate(result.cell.series):
            local = result.origins + result.cell.place.gap - panel.starts[index]
            inside = (local >= 0) & (local < panel.lengths[index])
            at = panel.offsets[index] + local[inside]
            expected[at] = result.mean[row, inside, 0]
            residual = np.abs(result.flat_mean - result.flat_truth)[row, inside, 0]
            score[at] = residual / result.spread[row]
    return Scores(panel, expected, score)


_LEAST = 3.0  # spreads


def budget_threshold(score: Floats, steps_per_week: float, budget_per_week: float) -> float:
    """The lowest threshold at which flagged runs of `score` (n_points,) stay within the budget, at least 3 spreads.

    It is learned state: hand over only what is known at the cutoff. NaN where nothing is scored.
    """
    present = np.isfinite(score)
    if not present.any():
        return float("nan")
    allowed = max(1, int(budget_per_week * present.sum() / steps_per_week))
    if len(_runs(score, _LEAST)) <= allowed:
        return _LEAST
    ranked = np.sort(score[present & (score >= _LEAST)])[::-1]  # lower ones join runs, so that there are fewer again
    low, high = 0, len(ranked) - 1
    while low < high:  # the number of points above grows with rank; runs follow it closely
        middle = (low + high + 1) // 2
        if len(_runs(score, ranked[middle])) <= allowed:
            low = middle
        else:
            high = middle - 1
    return float(ranked[low])


def _runs(score: Floats, threshold: float) -> list[tuple[int, int]]:
    """Spans of consecutive points above the threshold."""
    above = np.concatenate([[False], score > threshold, [False]])
    edges = np.flatnonzero(above[1:] != above[:-1])
    return list(zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True))


def threshold_as_of(scores: Scores, index: int, until: Moment | None, budget_per_week: float) -> float:
    """The threshold of one series within an alert budget, learned from the scores known at `until`."""
    known = int(scores.panel.known_lengths(until)[index])
    per_week = 604800 / scores.panel.axis.step.nominal_seconds
    return budget_threshold(scores.series(index)[1][:known], per_week, budget_per_week)


def flags_above(scores: Scores, index: int, threshold: float, until: Moment | None = None) -> list[Flag]:
    """Flags of one series raised by `until`: a run of three and more is a level shift, shorter ones are spikes."""
    panel = scores.panel
    score = scores.series(index)[1][: int(panel.known_lengths(until)[index])]
    runs = _runs(score, threshold)
    if not runs:
        return []
    begins = np.array([start for start, _ in runs], dtype=np.int64)
    times = panel.axis.times(panel.starts[index] + begins)
    return [
        Flag(
            key=panel.keys[index],
            start=start,
            stop=stop,
            score=float(np.nanmax(score[start:stop])),
            kind="spike" if stop - start < 3 else "level shift",
            time=str(time),
        )
        for (start, stop), time in zip(runs, times, strict=True)
    ]


def find_anomalies(
    panel: Panel,
    using: str | Contender = "ridge",
    budget_per_week: float = 2.0,
    chain: Chain | None = None,
    seed: int = 0,
    workers: int = 1,
    until: Moment | None = None,
) -> Anomalies:
    """Flag what a contender did not expect, at most `budget_per_week` flags per series on average.

    Every score is out of sample: contender and spread were learned before the point's fold began. With `until` nothing
    later is looked at: scores, thresholds and flags are those of that moment.
    Raises `SettingsError` for a budget that is not positive.
    """
    require_panel(panel)
    if not budget_per_week > 0:
        raise SettingsError("The alert budget is a positive number of flags per week.", field="budget_per_week")
    contender = forecaster(using, chain=chain) if isinstance(using, str) else using
    panel = panel.cut_at(until)
    folds = scan_folds(panel)
    report = walk_forward(panel, {"scan": contender}, folds, ["mae"], "scan", seed, workers, levels=())
    scores = residual_scores(panel, report.results)
    thresholds, flags = {}, []
    for index, key in enumerate(panel.keys):
        thresholds[key] = threshold_as_of(scores, index, None, budget_per_week)
        flags += flags_above(scores, index, thresholds[key])
    return Anomalies(scores, thresholds, tuple(sorted(flags, key=lambda flag: flag.time)))
