"""What a search found: candidates, the best and a blend of the best, what luck would have shown, and the sealed end."""

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
import pyarrow as pa

from proteron.core.errors import SettingsError
from proteron.core.forecasters import Contender
from proteron.core.judge import Board, CellResult, Folds, Report, blend_of
from proteron.core.panel import Floats
from proteron.core.search.luck import Luck
from proteron.core.search.processes import Found
from proteron.core.search.race import State
from proteron.core.search.settings import SearchSettings
from proteron.core.words import counted

_SURE = 0.05
_WORTH_SAYING = 0.1  # of the variance


@dataclass(frozen=True)
class TrialFacts:
    """One candidate: its error relative to the baseline on the last rung it reached, None where it has none, on how
    many folds that is, fits and seconds spent on it, what became of it and why; `errors` by rung, `weight` in the
    blend, in the mean over series, None where it is no member."""

    name: str
    contender: Contender
    family: str
    settings: Mapping[str, Any]
    state: State
    error: float | None
    folds: int
    fits: int
    seconds: float
    reason: str
    errors: Mapping[int, float]
    weight: float | None = None


@dataclass(frozen=True)
class Moved:
    """How much of the variance of candidates' errors goes with a setting, from 0 to 1, over so many candidates."""

    setting: str
    share: float
    tries: int


@dataclass(frozen=True)
class Finalist:
    """A winner's skill on the search folds and, once these are judged, on the sealed ones."""

    name: str
    search: float | None
    sealed: float | None

    @property
    def difference(self) -> float | None:
        """What was lost on the way, owed to having been chosen."""
        return None if self.search is None or self.sealed is None else self.search - self.sealed


@dataclass(frozen=True)
class Sealed:
    """The winners on the sealed folds."""

    report: Report
    finalists: tuple[Finalist, ...]

    @property
    def board(self) -> Board:
        """Winners, members and baseline on the sealed folds."""
        return self.report.board

    def __repr__(self) -> str:
        return "\n".join([repr(self.board), *(_sealed_in_words(each) for each in self.finalists)])


@dataclass(frozen=True, repr=False)
class SearchReport:
    """The outcome of a search; `cells` are what it is gone on from with more budget."""

    report: Report
    design: Folds
    settings: SearchSettings
    trials: tuple[TrialFacts, ...]
    best_name: str | None
    blend_name: str | None
    luck: Luck | None
    moved: tuple[Moved, ...]
    seconds: float
    fits: int
    stopped: bool
    cells: Mapping[str, Found] = field(default_factory=dict)

    @property
    def board(self) -> Board:
        """Candidates that came to the end, the baseline and the blend, on all search folds."""
        return self.report.board

    @property
    def best(self) -> Contender:
        """The best single candidate; raises `SettingsError` where none came to the end."""
        if self.best_name is None:
            raise SettingsError("No candidate came to the end of all folds: allow more time.", field="seconds")
        return self.report.contenders[self.best_name]

    @property
    def blend(self) -> Contender:
        """A blend of the best, one of every family and chain; the best alone where there is nothing to blend."""
        return self.best if self.blend_name is None else self.report.contenders[self.blend_name]

    @cached_property
    def sealed(self) -> Sealed:
        """The best and the blend on the sealed folds, judged when this is first asked for; honest but once.

        Raises `SettingsError` where no fold is sealed.
        """
        asked = self.blend_name or self.best_name
        if asked is None:
            raise SettingsError("No candidate came to the end of all folds: allow more time.", field="seconds")
        report = self.report.break_seal(asked)
        names = [name for name in (self.blend_name, self.best_name) if name is not None]
        skills = [(name, self.board.row(name).skill, report.board.row(name).skill) for name in names]
        return Sealed(report, tuple(Finalist(*each) for each in skills))

    @property
    def weights(self) -> dict[str, dict[str, float]]:
        """The blend's weights by series and member, as learned for the last search fold."""
        results = [each for each in self.report.results if each.cell.name == self.blend_name]
        return weights_in(results[-1]) if results else {}

    @property
    def summary(self) -> str:
        """What was found, in a plain paragraph."""
        name = self.blend_name or self.best_name
        looked = self.sealed.finalists if "sealed" in self.__dict__ else ()
        members = {each.name: each.weight for each in self.trials if each.weight}
        return Story(
            len(self.trials), self.fits, self.seconds, len(self.report.folds), self.report.baseline, name,
            None if name is None else self.board.row(name).skill, members, self.luck, self.moved, looked,
            len(self.report.sealed),
        ).text  # fmt: skip

    @property
    def document(self) -> dict[str, Any]:
        """What was found as plain data, with what is needed to find it again: the space, and the budget in fits."""
        return {
            "summary": self.summary, "best": self.best_name, "blend": self.blend_name, "seconds": self.seconds,
            "fits": self.fits, "stopped": self.stopped, "luck": None if self.luck is None else asdict(self.luck),
            "moved": [asdict(each) for each in self.moved], "weights": self.weights,
            "settings": {
                **self.settings.document(), "seconds": None, "fits": self.fits,
                "limit": self.settings.most_seconds_a_fit,
            },
        }  # fmt: skip

    def to_arrow(self) -> pa.Table:
        """One row per candidate."""
        names = ("name", "family", "state", "error", "folds", "fits", "seconds", "weight", "reason")
        return pa.Table.from_pylist([{name: getattr(each, name) for name in names} for each in self.trials])

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        return self.to_arrow().__arrow_c_stream__(requested_schema)

    def __repr__(self) -> str:
        return f"{self.summary}\n{self.board!r}"


def weights_in(result: CellResult) -> dict[str, dict[str, float]]:
    """A blend's weights by series and member in one fold."""
    fit = result.fit
    if fit is None:
        return {}
    keys = fit.chain["keys"]
    members = [each.name for each in blend_of(result.cell.contender).members]
    weights = fit.arrays["weights"].mean(axis=2)
    return {key: dict(zip(members, weights[:, row].tolist(), strict=True)) for row, key in enumerate(keys)}


def mean_weights(result: CellResult) -> dict[str, float]:
    """A blend's weights by member in one fold, in the mean over series."""
    by_series = list(weights_in(result).values())
    return {name: float(np.mean([each[name] for each in by_series])) for name in by_series[0]} if by_series else {}


def importance_of(trials: Sequence[TrialFacts]) -> tuple[Moved, ...]:
    """What moved the error: for family, chain, plan and every setting the share of the variance of log errors between
    its values, numbers in thirds, over candidates on the same rung; corrected for what chance explains."""
    found: list[Moved] = []
    rung = min((min(each.errors) for each in trials if each.errors), default=0)
    scored = [(np.log(max(each.errors[rung], 1e-12)), each) for each in trials if rung in each.errors]
    names = dict.fromkeys(["family", *(name for _, each in scored for name in each.settings)])
    for name in names:
        rows = [(error, each.family if name == "family" else each.settings.get(name)) for error, each in scored]
        rows = [(error, value) for error, value in rows if value is not None]
        share = _explained(np.array([error for error, _ in rows]), [value for _, value in rows])
        if share is not None:
            found.append(Moved(name, share, len(rows)))
    return tuple(sorted(found, key=lambda each: -each.share))


def _explained(errors: Floats, values: Sequence[Any]) -> float | None:
    """Share of the variance between groups (omega squared), None with too few to tell."""
    if all(isinstance(each, int | float) and not isinstance(each, bool) for each in values) and len(set(values)) > 3:
        edges = np.quantile(np.array(values, dtype=float), [1 / 3, 2 / 3])
        values = np.searchsorted(edges, np.array(values, dtype=float)).tolist()
    groups = [errors[[value == each for value in values]] for each in dict.fromkeys(values)]
    count, kinds = len(errors), len(groups)
    if kinds < 2 or count - kinds < 2:
        return None
    total = float(((errors - errors.mean()) ** 2).sum())
    within = float(sum(((each - each.mean()) ** 2).sum() for each in groups))
    noise = within / (count - kinds)
    return max((total - within - (kinds - 1) * noise) / (total + noise), 0.0) if total > 0 else None


@dataclass(frozen=True)
class Story:
    """What the paragraph about a search tells of; `blended` are members and weights where the winner is a blend."""

    tried: int
    fits: int
    seconds: float
    folds: int
    baseline: str
    winner: str | None
    skill: float | None
    blended: Mapping[str, float]
    luck: Luck | None
    moved: Sequence[Moved]
    finalists: Sequence[Finalist] = ()
    sealed: int = 0
    running: bool = False

    @property
    def beats(self) -> bool:
        """Whether the winner is better than the baseline by more than luck may explain."""
        return (self.skill or 0.0) > 0 and (self.luck is None or self.luck.p_hansen < _SURE)

    @property
    def text(self) -> str:
        """What a search comes to, without any table."""
        tried, folds = counted(self.tried, "candidate"), counted(self.folds, "search fold")
        spent = f"{self.fits:,} fits in {self.seconds:.0f} s"
        if self.winner is None:
            end = "none has come to the end yet" if self.running else "none came to the end: allow more time"
            return f"{tried} tried on up to {folds}, {spent}; {end}."
        if self.skill is None:
            return f"{tried} tried, {spent}. Nothing can be compared with {self.baseline}."
        parts = [f"{tried} tried, {spent}.", self._judged(folds)]
        parts += [_sealed_in_words(each) for each in self.finalists]
        if self.beats and self.finalists and (self.finalists[0].sealed or 0.0) <= 0:
            parts.append(f"So nothing was found that is better than {self.baseline}.")
        if self.sealed and not self.finalists:
            parts.append(f"{counted(self.sealed, 'sealed fold')} not looked at yet.")
        if self.moved and self.moved[0].share > _WORTH_SAYING:
            parts.append(f"What moved the error most: {self.moved[0].setting.replace('_', ' ')}.")
        return " ".join(parts)

    def _judged(self, folds: str) -> str:
        by_luck = "there are too few folds to say what luck would have shown"
        if self.luck is not None:
            by_luck = (
                f"the best of {self.luck.tries} worthless tries would have shown {self.luck.expected:+.0%} by luck"
            )
            by_luck += f", one in twenty of them {self.luck.high:+.0%} or more"
        assert self.winner is not None and self.skill is not None
        if not self.beats:
            return (
                f"Nothing was found that is better than {self.baseline}: the best shows {self.skill:+.0%} on {folds}, "
                f"but {by_luck}."
            )
        who = self.winner[:1].upper() + self.winner[1:]
        if self.blended:
            order = sorted(self.blended.items(), key=lambda each: -each[1])
            who = "A blend of " + ", ".join(f"{name} {weight:.0%}" for name, weight in order)
        return f"{who} is {self.skill:.0%} better than {self.baseline} on {folds}; {by_luck}."


def _sealed_in_words(each: Finalist) -> str:
    if each.sealed is None or each.search is None:
        return f"On the sealed folds {each.name} cannot be compared."
    lost = each.search - each.sealed
    points = f"{abs(lost) * 100:.0f} points {'less' if lost > 0 else 'more'}"
    return f"On the sealed folds {each.name} shows {each.sealed:+.0%}, {points} than where it was chosen."
