"""What was found: candidates with scores by series, the threshold, and the flags above it."""

import math
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np
import pyarrow as pa
from scipy.special import stdtr

from proteron.core.detection.naming import is_lasting
from proteron.core.panel import FILLED, FROM_BOTH_SIDES, NOT_SCORED, Floats, Mask, Occasion, Panel
from proteron.core.timeline import Moment, TimeAxis
from proteron.core.words import counted

Mode = Literal["looking_back", "as_of"]
_DEGREES = 5
_AS_EXPECTED = 0.02  # of what was expected, within which a mean is as it should be


@dataclass(frozen=True)
class Flag:
    """A span marked as anomalous: local positions `start` ≤ p < `stop`, its highest score, its kind.

    `raised_at` is the local position of the point with which it was raised, the last one where one looked back;
    `observed` and `expected` are means over the span, NaN where there is none.
    """

    key: str
    start: int
    stop: int
    score: float
    kind: str
    time: str
    raised_at: int = -1
    observed: float = math.nan
    expected: float = math.nan
    once_in: float = math.nan
    occasion: str = ""

    @property
    def stays(self) -> bool:
        """Whether it tells of a level that moved and stayed, which is no span of wrong values."""
        return is_lasting(self.kind, self.start, self.stop)

    def what(self, unit: str = "") -> str:
        """What came against what was expected, in a few words, in the unit of the data."""
        observed, off = self.observed, self.observed - self.expected
        if self.kind == "gap" or not math.isfinite(observed):
            return "nothing came"
        if self.kind == "flat-line":
            return f"the same {observed:.4g} all along"
        if self.kind == "zeros":
            return "zero where it never is"
        if not math.isfinite(off):
            return f"{observed:.4g} came"
        if abs(off) < _AS_EXPECTED * abs(self.expected):
            return f"{observed:.4g} in the mean, as expected; not its shape"
        said = f"{abs(off):.3g} {unit}".strip() + f" {'more' if off > 0 else 'less'} than expected"
        return f"{said}, and it stays" if self.stays else said

    def reaching(self, start: int, stop: int, axis: TimeAxis, first: int) -> "Flag":
        """The same over another span; the series begins at grid position `first`."""
        return replace(self, start=start, stop=stop, time=_stamp(axis, first + start))

    @property
    def sentence(self) -> str:
        """What was expected, what came, how unusual that is, and what it is called."""
        length = "" if self.stays else f" of {counted(self.stop - self.start, 'point')}"
        said = f"{self.kind}{length} since {self.time.replace('T', ' ')}"
        if math.isfinite(self.observed) and math.isfinite(self.expected):
            said += f": {self.observed:.4g} came where {self.expected:.4g} was expected"
        if self.occasion:
            said += f", on {self.occasion}"
        elif math.isfinite(self.once_in):
            said += f", as by chance once in {float(f'{self.once_in:.1g}'):,.0f} points"
        return said[0].upper() + said[1:] + "."


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


_COLUMNS = {
    "key": pa.string(), "start": pa.int64(), "stop": pa.int64(), "kind": pa.string(), "score": pa.float64(),
    "raised_at": pa.int64(), "observed": pa.float64(), "expected": pa.float64(),
}  # fmt: skip


def flag_table(flags: Sequence[Flag]) -> pa.Table:
    """One row per flag in order: time (UTC), key, start, stop and raised_at (local positions), kind, score, and means
    of what was observed and expected."""
    times = np.array([flag.time for flag in flags], dtype="datetime64[s]")
    columns: dict[str, Any] = {"time": pa.array(times, type=pa.timestamp("s", tz="UTC"))}
    for name, kind in _COLUMNS.items():
        columns[name] = pa.array([getattr(flag, name) for flag in flags], kind)
    return pa.table(columns)


@dataclass(frozen=True, repr=False)
class Anomalies:
    """Scores, the threshold per series (the last one, where it was learned as time went on) and the flags above it, in
    time order; apart from them what would be flagged were it not for an occasion."""

    scores: Scores
    thresholds: Mapping[str, float]
    flags: tuple[Flag, ...]
    mode: Mode = "as_of"
    explained: tuple[Flag, ...] = ()

    def __iter__(self) -> Iterator[Flag]:
        return iter(self.flags)

    def __len__(self) -> int:
        return len(self.flags)

    def __getitem__(self, place: int) -> Flag:
        return self.flags[place]

    def repaired(self) -> Panel:
        """The panel with what was expected in the place of flagged values, marked as filled and never scored; a level
        that stays moved is left as it is. Gaps are filled, too."""
        panel = self.scores.panel
        values, marks = panel.values.copy(), panel.marks.copy()
        marked = FILLED | NOT_SCORED | (FROM_BOTH_SIDES if self.mode == "looking_back" else 0)
        for flag in self.flags:
            first = int(panel.offsets[panel.index(flag.key)])
            at = np.arange(first + flag.start, first + flag.stop)
            at = at[np.isfinite(self.scores.expected[at])] if not flag.stays else at[:0]
            usual = self.scores.expected[at]
            values[at] = usual - (mean_of(usual) - flag.expected if math.isfinite(flag.expected) else 0.0)
            marks[at] |= np.uint8(marked)
        return replace(panel.with_values(values), marks=marks)

    def masked(self) -> Panel:
        """The panel with flagged spans masked from learning and scoring, under the names of their kinds; a level that
        stays moved is left as it is."""
        panel = self.scores.panel
        starts = {key: int(panel.starts[index]) for index, key in enumerate(panel.keys)}
        return panel.with_masks(
            [Mask(starts[flag.key] + flag.start, starts[flag.key] + flag.stop, flag.kind, key=flag.key)
             for flag in self.flags if not flag.stays]
        )  # fmt: skip

    def to_arrow(self) -> pa.Table:
        """One row per flag in time order; see `flag_table`."""
        return flag_table(self.flags)

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        return self.to_arrow().__arrow_c_stream__(requested_schema)

    def __repr__(self) -> str:
        kinds = ", ".join(f"{n} × {kind}" for kind, n in Counter(flag.kind for flag in self.flags).items())
        return f"Anomalies: {counted(len(self), 'flag')} over {len(self.thresholds)} series" + (
            f" ({kinds})" if kinds else ""
        )


@dataclass(frozen=True)
class Candidate:
    """What may become a flag of a series; `course` tells at which positions its score grew to what.

    `observed` and `expected` are means over the span, NaN where there is none; `moved` by how much the level was higher
    in it where what was expected followed.
    """

    start: int
    stop: int
    kind: str
    course: tuple[tuple[int, float], ...]
    exact: bool = False  # told by an exact test
    occasion: str = ""  # that explains it
    observed: float = math.nan
    expected: float = math.nan
    moved: float = math.nan

    @property
    def score(self) -> float:
        """The highest in the end."""
        return self.course[-1][1]


@dataclass(frozen=True)
class SeriesFound:
    """What flags of a series are raised from: candidates, after how many points something was learned, where that was
    on the way, and how many points were scored."""

    candidates: tuple[Candidate, ...]
    moments: tuple[int, ...]
    scored: int


@dataclass(frozen=True)
class SeriesScores:
    """What a detector finds in one series: expected values and scores (n_points,), candidates, and after how many
    points it learned, where it did so on the way."""

    expected: Floats
    score: Floats
    candidates: tuple[Candidate, ...]
    moments: tuple[int, ...] = ()

    def found(self, panel: Panel, index: int, mode: Mode) -> SeriesFound:
        """Candidates with what came, what was expected, and the occasion that explains each, if one does."""
        first, values = int(panel.starts[index]), panel.series(index)
        seasons = panel.axis.step.whole_seasons
        told = [
            replace(
                with_means(each, values, self.expected),
                occasion=occasion_of(panel.occasions, seasons, first, each, mode),
            )
            for each in self.candidates
        ]
        return SeriesFound(tuple(told), self.moments, int(np.isfinite(self.score).sum()))


def with_means(candidate: Candidate, values: Floats, expected: Floats) -> Candidate:
    """The candidate of a series with what came and what was expected, (n_points,)."""
    part = slice(candidate.start, candidate.stop)
    observed = mean_of(values[part])
    usual = mean_of(expected[part]) if math.isnan(candidate.moved) else observed - candidate.moved
    return replace(candidate, observed=observed, expected=usual)


def occasion_of(
    occasions: Sequence[Occasion], seasons: Sequence[int], first: int, candidate: Candidate, mode: Mode
) -> str:  # fmt: skip
    """The occasion that explains at least half of a candidate, unless an exact test told it; as of every moment the one
    that explains where it begins, as no more is known then. `first` is the position of the first point of its series.

    A short occasion, up to the longest season, explains all it covers; a long one only the shortest season in which it
    begins; and any one that in which it ends.
    """
    start = first + candidate.start
    stop = start + 1 if mode == "as_of" else first + candidate.stop
    edge, short = (min(seasons), max(seasons)) if seasons else (1, 7)
    for each in () if candidate.exact else occasions:
        last = each.stop if each.stop - each.start <= short else each.start + edge
        spans = ((each.start, last), (each.stop, each.stop + edge))
        covered = sum(max(min(stop, high) - max(start, low), 0) for low, high in spans)
        if 2 * covered >= stop - start:
            return each.name
    return ""


def flag_of(axis: TimeAxis, first: int, key: str, candidate: Candidate, raised: tuple[int, float]) -> Flag:
    """A candidate of a series as a flag, raised with a score at a position; `first` is that of its first point."""
    (at, score), unusual = raised, math.nan if candidate.exact else once_in(raised[1])
    return Flag(
        key, candidate.start, candidate.stop, score, candidate.kind, _stamp(axis, first + candidate.start), at,
        candidate.observed, candidate.expected, unusual, candidate.occasion,
    )  # fmt: skip


def _stamp(axis: TimeAxis, place: int) -> str:
    return str(axis.times(np.array([place]))[0])


def mean_of(values: Floats) -> float:
    """Of what is there; NaN where nothing is."""
    there = values[np.isfinite(values)]
    return float(there.mean()) if len(there) else math.nan


def once_in(score: float) -> float:
    """In how many points an error reaches a score by chance once, in either direction, were errors of Student's t with
    five degrees of freedom: their tails are rarely a normal's."""
    return 0.5 / max(float(stdtr(_DEGREES, -score)), 1e-300)
