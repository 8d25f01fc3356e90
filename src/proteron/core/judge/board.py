"""The board: a pure view over the losses of finished cells."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, field, fields
from functools import lru_cache
from typing import Any

import numpy as np
import pyarrow as pa

from proteron.core.errors import SettingsError
from proteron.core.judge.cells import FLAT_SQUARE
from proteron.core.judge.losses import Losses, Told, mean_over, reported_of
from proteron.core.judge.metrics import METRICS, metric_of
from proteron.core.panel import Floats

_RESAMPLES = 2000
_COVERAGE = "coverage_95"
_WEIGHED = {
    "series": "Every series counts alike, however many of its points are scored; medians and the largest as ever.",
    "size": "Series count by the mean size of their scored truth; medians and the largest as ever.",
}


@dataclass(frozen=True)
class Failure:
    """Why an entrant has no forecast: a cell that failed, or (with `series`) a series it declined; folds from 0."""

    contender: str
    fold: int
    reason: str
    series: str | None = None

    @property
    def place(self) -> str:
        """Where, in words: “name, fold 1”."""
        return f"{self.contender}, fold {self.fold + 1}" + ("" if self.series is None else f", {self.series}")


@dataclass(frozen=True)
class Reason:
    """A reason that stands for missing forecasts: in how many folds (from 0) and of which series; none: of all."""

    text: str
    folds: tuple[int, ...]
    series: tuple[str, ...]


@dataclass(frozen=True)
class Behind:
    """How much stands behind a number: scored points, and how many folds and series they are from."""

    points: int
    folds: int
    series: int


@dataclass(frozen=True)
class EntrantFacts:
    """What the board says of an entrant besides its errors."""

    name: str
    family: str
    cells: int = 0
    failed: int = 0
    seconds: float = 0.0
    cpu_seconds: float = 0.0
    failures: tuple[Failure, ...] = ()


@dataclass(frozen=True)
class BoardRow(Mapping[str, Any]):
    """One entrant: pooled errors by metric, skill over the baseline with its 95 % interval, and why any is missing.

    `behind` says what stands behind each error and the skill, by metric and as “skill”; `seconds` passed while its
    cells were computed, of which the processor was at work `cpu_seconds`.
    Reads as a mapping too: every field by its name, and every metric by its own. None where nothing can be said.
    """

    contender: str
    family: str
    baseline: bool
    cells: int
    failed: int
    errors: Mapping[str, float | None]
    flat_rmse: float | None
    skill: float | None
    skill_low: float | None
    skill_high: float | None
    skill_by_fold: tuple[float | None, ...]
    skill_by_step: tuple[float | None, ...]
    skill_by_series: tuple[float | None, ...]
    best_in: int
    coverage: float | None
    seconds: float
    cpu_seconds: float
    behind: Mapping[str, Behind]
    reasons: tuple[Reason, ...] = field(default=())

    def __getitem__(self, name: str) -> Any:
        if name in self.errors:
            return self.errors[name]
        if name not in _ROW_FIELDS:
            raise KeyError(name)
        found = getattr(self, name)
        if name == "reasons":
            return [{"text": r.text, "folds": list(r.folds), "series": list(r.series)} for r in found]
        if name == "behind":
            return {key: asdict(each) for key, each in found.items()}
        return list(found) if isinstance(found, tuple) else found

    def __iter__(self) -> Iterator[str]:
        yield from ("contender", "family", "baseline", *self.errors)
        yield from (name for name in _ROW_FIELDS if name not in ("contender", "family", "baseline"))

    def __len__(self) -> int:
        return len(self.errors) + len(_ROW_FIELDS)


_ROW_FIELDS = tuple(each.name for each in fields(BoardRow) if each.name != "errors")
_LISTS = ("skill_by_fold", "skill_by_step", "skill_by_series", "reasons", "behind")


class Board(Sequence[BoardRow]):
    """Rows in the order entrants were entered; as a table through Arrow."""

    def __init__(
        self, rows: Sequence[BoardRow], metrics: Sequence[str], skill_metric: str, notes: Sequence[str] = ()
    ) -> None:  # fmt: skip
        self._rows = tuple(rows)
        self.metrics = tuple(metrics)
        self.skill_metric = skill_metric
        self.notes = tuple(notes)  # what errors leave out, in sentences

    def __getitem__(self, place: Any) -> Any:
        return self._rows[place]

    def __len__(self) -> int:
        return len(self._rows)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Board) and self._rows == other._rows

    __hash__ = None  # type: ignore[assignment]

    def row(self, name: str) -> BoardRow:
        """The row of one entrant; raises `KeyError`."""
        for row in self._rows:
            if row.contender == name:
                return row
        raise KeyError(name)

    @property
    def documents(self) -> list[dict[str, Any]]:
        """The rows as plain data."""
        return [dict(row) for row in self._rows]

    def to_arrow(self) -> pa.Table:
        """One row per entrant, without the lists by fold, step and series."""
        return pa.Table.from_pylist([{n: v for n, v in row.items() if n not in _LISTS} for row in self._rows])

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        return self.to_arrow().__arrow_c_stream__(requested_schema)

    def __repr__(self) -> str:
        return "\n".join(["  ".join(cells) for cells in self._cells()] + list(self.notes))

    def _repr_html_(self) -> str:
        head, *body = self._cells()
        rows = "".join("<tr>" + "".join(f"<td>{cell.strip()}</td>" for cell in row) + "</tr>" for row in body)
        notes = "".join(f"<p>{note}</p>" for note in self.notes)
        return f"<table><tr>{''.join(f'<th>{cell.strip()}</th>' for cell in head)}</tr>{rows}</table>{notes}"

    def _cells(self) -> list[list[str]]:
        """Text of the cells, padded so that columns stand under each other."""
        lines = [["contender", "skill", "95 % interval", *self.metrics, "not forecast because"]]
        for row in self._rows:
            interval = "–" if row.skill_low is None else f"{row.skill_low:+.3f} … {row.skill_high:+.3f}"
            skill = "–" if row.skill is None else f"{row.skill:+.3f}"
            errors = ["–" if row.errors[m] is None else f"{row.errors[m]:.4g}" for m in self.metrics]
            lines.append([row.contender, skill, interval, *errors, row.reasons[0].text if row.reasons else ""])
        widths = [max(map(len, column)) for column in zip(*lines, strict=True)]
        return [[cell.ljust(width) for cell, width in zip(line, widths, strict=True)] for line in lines]


def _number(value: Any) -> float | None:
    return float(value) if np.isfinite(value) else None


def _numbers(values: Floats) -> tuple[float | None, ...]:
    return tuple(_number(value) for value in values)


def make_board(
    losses: Mapping[str, Losses],
    entrants: Sequence[EntrantFacts],
    metrics: Sequence[str],
    baseline: str,
    skill_metric: str | None = None,
) -> Board:
    """One row per entrant, in their order: pooled errors over what each scored, skill against the baseline.

    Skill, and what is made of it, compares only points that both have. Its interval resamples the folds that have such
    points (2,000 draws, seeded; two folds at least). An entrant is best in a fold where its skill there is the highest;
    of equals it is the one entered first. Raises `SettingsError` for a metric by which smaller is not better.
    """
    measure = skill_metric or skill_metric_of(metrics)
    known = metric_of(measure)
    if known is None or not known.tells_skill:
        names = ", ".join(name for name, metric in METRICS.items() if metric.tells_skill)
        raise SettingsError(f"Skill cannot be told by “{measure}”, but by: {names}.", field="metric")
    compared = losses[measure]
    base = compared.of(baseline)
    pairs = {each.name: _Pair.of(compared, each.name, baseline) for each in entrants}
    skills = {name: pair.skill(1, 2) for name, pair in pairs.items()}
    best = _best(skills, baseline, np.isfinite(base).any(axis=(1, 2, 3)))
    told = dict.fromkeys([*metrics, measure])
    asked = [name for name in dict.fromkeys([*told, FLAT_SQUARE, _COVERAGE]) if name in losses]
    counts = {name: np.isfinite(losses[name].values).sum(axis=(3, 4)) for name in asked}
    reported = {name: losses[name].reported((1, 2, 3, 4)) for name in asked}
    rows = []
    for each in entrants:
        pair = pairs[each.name]
        low, high = pair.interval()
        rows.append(
            BoardRow(
                contender=each.name,
                family=each.family,
                baseline=each.name == baseline,
                cells=each.cells,
                failed=each.failed,
                errors={name: _at(reported, losses, name, each.name) for name in told},
                flat_rmse=_at(reported, losses, FLAT_SQUARE, each.name),
                skill=_number(pair.skill(0, 1, 2)),
                skill_low=low,
                skill_high=high,
                skill_by_fold=_numbers(skills[each.name]),
                skill_by_step=_numbers(pair.skill(0, 1)),
                skill_by_series=_numbers(pair.skill(0, 2)),
                best_in=int((best == each.name).sum()),
                coverage=_at(reported, losses, _COVERAGE, each.name),
                seconds=each.seconds,
                cpu_seconds=each.cpu_seconds,
                behind={
                    name: _behind(counts[name][losses[name].names.index(each.name)]) for name in told if name in losses
                }
                | {"skill": _behind(pair.counts.sum(axis=2))},
                reasons=_reasons(each.failures),
            )
        )
    notes = [_WEIGHED[losses.weighting]] if isinstance(losses, Told) and losses.weighting != "points" else []
    return Board(rows, metrics, measure, notes + _left_out(counts, list(told)))


def skill_metric_of(metrics: Sequence[str]) -> str:
    """The first metric by which skill can be told."""
    known = ((name, metric_of(name)) for name in metrics)
    return next((name for name, metric in known if metric is not None and metric.tells_skill), "mase")


def _at(reported: Mapping[str, Floats], losses: Mapping[str, Losses], metric: str, name: str) -> float | None:
    return _number(reported[metric][losses[metric].names.index(name)]) if metric in reported else None


def _behind(counts: Any) -> Behind:
    """What stands behind a number, from how many points it has by fold and series (n_folds, n_series)."""
    return Behind(int(counts.sum()), int((counts.sum(axis=1) > 0).sum()), int((counts.sum(axis=0) > 0).sum()))


def _left_out(counts: Mapping[str, Any], metrics: Sequence[str]) -> list[str]:
    """What each metric leaves out that another tells of: whole folds, whole series, or single points.

    `counts` (n_entrants, n_folds, n_series) are points by metric.
    """
    known = {name: found for name in counts if (found := metric_of(name)) is not None}
    most, notes = np.maximum.reduce([counts[name] for name in known]), []
    for name in metrics:
        if name not in counts or (counts[name] == most).all():
            continue
        parts = []
        for axis, (one, many) in ((1, ("fold", "folds")), (2, ("series", "series"))):
            others = tuple(each for each in (0, 1, 2) if each != axis)
            gone = ((counts[name].sum(axis=others) == 0) & (most.sum(axis=others) > 0)).sum()
            if gone:
                parts.append(f"{gone} of {most.shape[axis]} {one if most.shape[axis] == 1 else many}")
        points = f"{100 * (most - counts[name]).sum() / most.sum():.2g} % of all points"
        notes.append(f"{known[name].title} leaves out {' and '.join(parts) or points}: {known[name].undefined}.")
    return notes


@dataclass(frozen=True)
class _Pair:
    """Losses of an entrant and the baseline over the points both have, each (n_folds, n_series, n_steps), as sums over
    origins, how many points these are, the metric's yardstick of them, and how series weigh, where either is."""

    metric: str
    mine: Floats
    theirs: Floats
    counts: Floats
    beside: Floats | None
    weights: Floats | None

    @classmethod
    def of(cls, losses: Losses, name: str, baseline: str) -> "_Pair":
        own, base = losses.of(name), losses.of(baseline)
        both = np.isfinite(own) & np.isfinite(base)
        mine, theirs = (np.where(both, each, 0.0).sum(axis=2) for each in (own, base))
        beside = None if losses.beside is None else np.where(both, losses.beside, 0.0).sum(axis=2)
        return cls(losses.metric, mine, theirs, both.sum(axis=2), beside, losses.weights)

    def skill(self, *axes: int) -> Floats:
        """Skill over all of some axes (0 folds, 1 series, 2 steps)."""
        return _share(self.metric, *(mean_over(each, self.counts, axes, 1, self.weights) for each in self._sums))

    @property
    def _sums(self) -> list[Floats]:
        return [self.mine, self.theirs, *([] if self.beside is None else [self.beside])]

    def interval(self) -> tuple[float | None, float | None]:
        """95 % interval of the skill over resampled folds; none with fewer than two folds to draw from."""
        there = self.counts.sum(axis=(1, 2)) > 0
        folds = int(there.sum())
        if folds < 2:
            return None, None
        draws = _draws(folds)
        if self.weights is None:
            counts, sums = self.counts.sum(axis=(1, 2)), [each.sum(axis=(1, 2)) for each in self._sums]
            drawn = _share(self.metric, *(_drawn(draws, each[there]) / _drawn(draws, counts[there]) for each in sums))
        else:
            counts, sums = (
                draws @ self.counts[there].sum(axis=2),
                [draws @ each[there].sum(axis=2) for each in self._sums],
            )
            drawn = _share(self.metric, *(mean_over(each, counts, (1,), 1, self.weights) for each in sums))
        drawn = drawn[np.isfinite(drawn)]
        if len(drawn) <= _RESAMPLES // 2:
            return None, None
        low, high = np.quantile(drawn, (0.025, 0.975))
        return float(low), float(high)


@lru_cache(maxsize=64)
def _draws(folds: int) -> Floats:
    """How often each fold is drawn, (_RESAMPLES, folds)."""
    draws = np.random.default_rng(0).multinomial(folds, np.full(folds, 1 / folds), size=_RESAMPLES)
    return draws.astype(np.float64)


def _drawn(draws: Floats, by_fold: Floats) -> Floats:
    """Sums over drawn folds, (_RESAMPLES,); to the same bit in every process, whatever threads it has."""
    return np.asarray(np.einsum("df,f->d", draws, by_fold))


def _share(metric: str, mine: Floats, theirs: Floats, beside: Floats | None = None) -> Floats:
    """1 - error / the baseline's error, from mean losses; NaN where the baseline has none."""
    own, base = reported_of(metric, mine, beside), reported_of(metric, theirs, beside)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(base > 0, 1 - own / base, np.nan)


def _best(skills: Mapping[str, Floats], baseline: str, scored: Any) -> Any:
    """Name of the entrant with the highest skill per fold, (n_folds,); empty text where nothing is scored."""
    names = list(skills)
    ranked = np.array([np.where(np.isfinite(skills[name]), skills[name], -np.inf) for name in names])
    if baseline in skills:  # without any error of its own the baseline has no skill, and cannot be beaten
        place = names.index(baseline)
        ranked[place] = np.where(scored, np.maximum(ranked[place], 0.0), -np.inf)
    chosen = np.array(names, dtype=object)[ranked.argmax(axis=0)]
    return np.where(np.isfinite(ranked).any(axis=0), chosen, "")


def _reasons(failures: Sequence[Failure]) -> tuple[Reason, ...]:
    """Failures gathered by their text, the most frequent first."""
    found: dict[str, list[Failure]] = {}
    for each in failures:
        found.setdefault(each.reason, []).append(each)
    ordered = sorted(found.items(), key=lambda item: -len(item[1]))
    return tuple(
        Reason(
            text,
            tuple(sorted({each.fold for each in of_text})),
            tuple(dict.fromkeys(each.series for each in of_text if each.series is not None)),
        )
        for text, of_text in ordered
    )
