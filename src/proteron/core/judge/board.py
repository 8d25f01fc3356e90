"""The board: a pure view over the losses of finished cells."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, field, fields
from typing import Any

import numpy as np
import pyarrow as pa

from proteron.core.errors import SettingsError
from proteron.core.judge.cells import FLAT_SQUARE
from proteron.core.judge.compared import Pair
from proteron.core.judge.entrants import EntrantFacts, Reason, reasons_of
from proteron.core.judge.evidence import BestSet, Interval, Ranks, best_set, rank_entrants, sample_of, skill_interval
from proteron.core.judge.evidence.verdict import verdict_of
from proteron.core.judge.folds import Fold
from proteron.core.judge.losses import Losses, Weighting
from proteron.core.judge.metrics import METRICS, Metric, metric_of
from proteron.core.panel import Floats

_COVERAGE = "coverage_95"
_WEIGHED = {
    "series": "Every series counts alike, however many of its points are scored; medians and the largest as ever.",
    "size": "Series count by the mean size of their scored truth; medians and the largest as ever.",
}


@dataclass(frozen=True)
class Behind:
    """How much stands behind a number: scored points, and how many folds and series they are from."""

    points: int
    folds: int
    series: int


@dataclass(frozen=True)
class BoardRow(Mapping[str, Any]):
    """One entrant: pooled errors by metric, skill over the baseline with its 95 % interval, and why any is missing.

    `behind` says what stands behind each error and the skill, by metric and as “skill”; `seconds` passed while its
    cells were computed, of which the processor was at work `cpu_seconds`. `among_best` says whether it may be the best
    of all; `mean_rank` is over series, or over folds of a single one.
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
    among_best: bool | None
    mean_rank: float | None
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


@dataclass(frozen=True)
class Evidence:
    """What tells whether differences are real: `resampled` says what intervals were drawn from, None of too few."""

    verdict: str = ""
    resampled: str | None = None
    best: BestSet | None = None
    ranks: Ranks | None = None


class Board(Sequence[BoardRow]):
    """Rows in the order entrants were entered; as a table through Arrow."""

    def __init__(
        self, rows: Sequence[BoardRow], metrics: Sequence[str], skill_metric: str, notes: Sequence[str] = (),
        evidence: Evidence | None = None,
    ) -> None:  # fmt: skip
        self._rows = tuple(rows)
        self.metrics = tuple(metrics)
        self.skill_metric = skill_metric
        self.notes = tuple(notes)  # what errors leave out, in sentences
        self.evidence = evidence or Evidence()

    @property
    def verdict(self) -> str:
        """What the board comes to, in a sentence or two."""
        return self.evidence.verdict

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
        told = [self.verdict, *self.notes] if self.verdict else self.notes
        return "\n".join(["  ".join(cells) for cells in self._cells()] + list(told))

    def _repr_html_(self) -> str:
        head, *body = self._cells()
        rows = "".join("<tr>" + "".join(f"<td>{cell.strip()}</td>" for cell in row) + "</tr>" for row in body)
        notes = "".join(f"<p>{note}</p>" for note in (self.verdict, *self.notes) if note)
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
    return tuple(value if known else None for value, known in zip(values.tolist(), np.isfinite(values), strict=True))


def make_board(
    losses: Mapping[str, Losses],
    entrants: Sequence[EntrantFacts],
    metrics: Sequence[str],
    baseline: str,
    skill_metric: str | None = None,
    folds: Sequence[Fold] | None = None,
    weighting: Weighting = "points",
) -> Board:
    """One row per entrant, in their order: pooled errors over what each scored, skill against the baseline.

    Skill, and what is made of it, compares only points that both have. Its interval, and which entrants may be the
    best, resample blocks of `folds`, each taken for independent of the others where none are given. An entrant is best
    in a fold where its skill there is the highest; of equals it is the one entered first. `weighting` says how the
    losses are weighed. Raises `SettingsError` for a metric by which smaller is not better.
    """
    measure = skill_metric or skill_metric_of(metrics)
    metric_of_skill(measure)
    compared = losses[measure]
    base = compared.of(baseline)
    pairs = {each.name: Pair.of(compared, each.name, baseline) for each in entrants}
    intervals, evidence = _evidence(compared, pairs, baseline, folds)
    skills = {name: pair.skill(1, 2) for name, pair in pairs.items()}
    best = _best(skills, baseline, np.isfinite(base).any(axis=(1, 2, 3)))
    told = dict.fromkeys([*metrics, measure])
    asked = [name for name in dict.fromkeys([*told, FLAT_SQUARE, _COVERAGE]) if name in losses]
    counts = {name: np.isfinite(losses[name].values).sum(axis=(3, 4)) for name in asked}
    reported = {name: losses[name].reported((1, 2, 3, 4)) for name in asked}
    rows = []
    for each in entrants:
        pair, interval = pairs[each.name], intervals[each.name]
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
                skill_low=None if interval is None else interval.low,
                skill_high=None if interval is None else interval.high,
                skill_by_fold=_numbers(skills[each.name]),
                skill_by_step=_numbers(pair.skill(0, 1)),
                skill_by_series=_numbers(pair.skill(0, 2)),
                best_in=int((best == each.name).sum()),
                among_best=_among(evidence, each.name),
                mean_rank=None if evidence.ranks is None else evidence.ranks.mean_ranks.get(each.name),
                coverage=_at(reported, losses, _COVERAGE, each.name),
                seconds=each.seconds,
                cpu_seconds=each.cpu_seconds,
                behind={
                    name: _behind(counts[name][losses[name].names.index(each.name)]) for name in told if name in losses
                }
                | {"skill": _behind(pair.counts.sum(axis=2))},
                reasons=reasons_of(each.failures),
            )
        )
    notes = [] if weighting == "points" else [_WEIGHED[weighting]]
    return Board(rows, metrics, measure, notes + _left_out(counts, list(told)), evidence)


def _evidence(
    losses: Losses, pairs: Mapping[str, Pair], baseline: str, folds: Sequence[Fold] | None
) -> tuple[dict[str, Interval | None], Evidence]:
    """Intervals of skill, and how entrants stand to each other.

    Those with fewer than half of the baseline's points are left out of the latter, or little would be compared.
    """
    metric, intervals = metric_of_skill(losses.metric), {}
    points_of = np.isfinite(losses.values)
    everyone = sample_of(losses, losses.names, folds) if (points_of == points_of[:1]).all() else None
    for name in pairs:
        both = everyone or sample_of(losses, [name, baseline], folds)
        intervals[name] = skill_interval(both.of(name), both.of(baseline), metric.power)
    points = int(np.isfinite(losses.of(baseline)).sum())
    whole = [name for name, pair in pairs.items() if points and pair.counts.sum() * 2 >= points]
    skills = {name: float(pair.skill(0, 1, 2)) for name, pair in pairs.items() if name != baseline}
    known = {name: (skill, intervals[name]) for name, skill in skills.items() if np.isfinite(skill)}
    if not whole:
        return intervals, Evidence(verdict_of(known, baseline, None))
    sample = everyone if everyone and len(whole) == len(losses.names) else sample_of(losses, whole, folds)
    best = best_set(sample)
    common = losses.common(whole)
    by_case = common.reported((1, 3, 4) if common.values.shape[2] > 1 else (2, 3, 4))
    verdict = verdict_of(known, baseline, None if best is None else best.members)
    resampled = None if all(each is None for each in intervals.values()) else sample.text
    return intervals, Evidence(verdict, resampled, best, rank_entrants(whole, by_case))


def _among(evidence: Evidence, name: str) -> bool | None:
    return None if evidence.best is None or name not in evidence.best.p_values else name in evidence.best.members


def metric_of_skill(name: str) -> Metric:
    """A metric by which skill can be told; raises `SettingsError`."""
    known = metric_of(name)
    if known is None or not known.tells_skill:
        names = ", ".join(each for each, metric in METRICS.items() if metric.tells_skill)
        raise SettingsError(f"Skill cannot be told by “{name}”, but by: {names}.", field="metric")
    return known


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

    `counts` (n_entrants, n_folds, n_series) are points by metric. Entrants for which a metric tells nothing at all show
    that by themselves, where it does for others.
    """
    known = {name: found for name in counts if (found := metric_of(name)) is not None}
    everyone, notes = np.maximum.reduce([counts[name] for name in known]), []
    for name in (each for each in metrics if each in counts):
        told = counts[name].any(axis=(1, 2))
        told = told if told.any() else np.full(len(told), True)
        most, found = everyone[told], counts[name][told]
        if (found == most).all():
            continue
        parts = []
        for axis, (one, many) in ((1, ("fold", "folds")), (2, ("series", "series"))):
            others = tuple(each for each in (0, 1, 2) if each != axis)
            gone = ((found.sum(axis=others) == 0) & (most.sum(axis=others) > 0)).sum()
            if gone:
                parts.append(f"{gone} of {most.shape[axis]} {one if most.shape[axis] == 1 else many}")
        points = f"{100 * (most - found).sum() / most.sum():.2g} % of all points"
        notes.append(f"{known[name].title} leaves out {' and '.join(parts) or points}: {known[name].undefined}.")
    return notes


def _best(skills: Mapping[str, Floats], baseline: str, scored: Any) -> Any:
    """Name of the entrant with the highest skill per fold, (n_folds,); empty text where nothing is scored."""
    names = list(skills)
    ranked = np.array([np.where(np.isfinite(skills[name]), skills[name], -np.inf) for name in names])
    if baseline in skills:  # without any error of its own the baseline has no skill, and cannot be beaten
        place = names.index(baseline)
        ranked[place] = np.where(scored, np.maximum(ranked[place], 0.0), -np.inf)
    chosen = np.array(names, dtype=object)[ranked.argmax(axis=0)]
    return np.where(np.isfinite(ranked).any(axis=0), chosen, "")
