"""Designs of folds: how the cutoff walks forward, by which of its places are learned from and scored."""

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from proteron.core.documents import Settings
from proteron.core.errors import SettingsError, TooShortError
from proteron.core.judge.folds import Fold, Spans
from proteron.core.panel import Panel
from proteron.core.timeline import Ints
from proteron.core.words import counted

Kind = Literal["expanding", "sliding", "single", "at", "calendar"]
Period = Literal["week", "month", "quarter", "year"]
_SHARE = 0.2
_WALKING = ["expanding", "sliding"]


def _field(*kinds: str, steps: bool = False, advanced: bool = False) -> dict[str, Any]:
    """What a form is told of a field: its unit, and for which kinds of folds it is there."""
    told: dict[str, Any] = {"unit": "steps"} if steps else {}
    if advanced:
        told["advanced"] = True
    return told | ({"where": {"kind": list(kinds)}} if kinds else {})


class Folds(Settings):
    """How the cutoff walks forward; by default the scored spans lie end to end and reach the last point."""

    kind: Kind = Field(
        "expanding", title="Learned part",
        description="All before the cutoff; the last of it; one hold-out at the end; before times given; or the first "
        "days of every week, month, quarter or year.",
    )  # fmt: skip
    count: int = Field(8, ge=1, le=1000, title="Folds", json_schema_extra=_field(*_WALKING, "calendar"))
    horizon: int = Field(
        24, ge=1, title="Horizon", description="How far ahead is scored.", json_schema_extra=_field(steps=True)
    )
    gap: int = Field(
        0, ge=0, title="Gap", description="Between the cutoff and the first that is scored.",
        json_schema_extra=_field(steps=True),
    )  # fmt: skip
    share: float | None = Field(
        None, gt=0, lt=1, title="Share scored", description="Empty: a fifth, or what the scored span says.",
        json_schema_extra=_field("single"),
    )  # fmt: skip
    cutoffs: tuple[int | str, ...] = Field(
        (), title="Cutoffs", description="Times, such as 2024-03-01: what is there by each is known.",
        json_schema_extra=_field("single", "at"),
    )  # fmt: skip
    period: Period = Field("month", title="Pattern of every", json_schema_extra=_field("calendar"))
    learn: int = Field(
        20, ge=1, title="Days learned", description="The first days of each; the rest is scored.",
        json_schema_extra=_field("calendar"),
    )  # fmt: skip
    hidden: bool = Field(
        False, title="Scored days stay hidden", description="No later fold learns from them, nor knows them.",
        json_schema_extra=_field("calendar"),
    )  # fmt: skip
    span: int | None = Field(
        None, ge=1, title="Scored span", description="Empty: the horizon.",
        json_schema_extra=_field(*_WALKING, "single", "at", steps=True),
    )  # fmt: skip
    every: int | None = Field(
        None, ge=1, title="Origin every", description="Empty: the horizon.", json_schema_extra=_field(steps=True)
    )
    spacing: int | None = Field(
        None, ge=1, title="Fold every", description="Empty: the scored span.",
        json_schema_extra=_field(*_WALKING, steps=True),
    )  # fmt: skip
    length: int | None = Field(
        None, ge=2, title="Learned length", description="How much is learned from.",
        json_schema_extra=_field("sliding", steps=True),
    )  # fmt: skip
    refit: int = Field(
        1, ge=0, title="Learn anew every", description="In between the state moves on with the data; 0: learned once.",
        json_schema_extra={"unit": "folds"} | _field(*_WALKING, "at", "calendar", advanced=True),
    )  # fmt: skip
    sealed: int = Field(
        0, ge=0, title="Sealed folds",
        description="The last ones stay uncomputed and unseen until their seal is broken.",
        json_schema_extra={"unit": "folds"} | _field(*_WALKING, "at", "calendar"),
    )  # fmt: skip
    steps: tuple[int, ...] = Field(
        (), title="Steps scored", description="Empty: all up to the horizon.", json_schema_extra=_field(advanced=True)
    )
    months: tuple[int, ...] = Field(
        (), title="Months scored", description="From 1 to 12; empty: all.", json_schema_extra=_field(advanced=True)
    )

    @model_validator(mode="after")
    def _consistent(self) -> Self:
        if any(not self.gap < step <= self.gap + self.horizon for step in self.steps):
            raise ValueError(f"steps ahead lie between {self.gap + 1} and {self.gap + self.horizon}: gap and horizon")
        if any(not 1 <= month <= 12 for month in self.months):
            raise ValueError("months are numbers from 1 to 12")
        if self.kind == "at" and not self.cutoffs:
            raise ValueError("folds at times need at least one time")
        if self.kind == "single" and len(self.cutoffs) > 1:
            raise ValueError("one hold-out has one cutoff")
        return self

    @classmethod
    def expanding(cls, count: int = 8, horizon: int = 24, gap: int = 0, **rest: Any) -> "Folds":
        """Each fold learns from the start of the data up to its cutoff."""
        return cls.parse({"kind": "expanding", "count": count, "horizon": horizon, "gap": gap, **rest})

    @classmethod
    def sliding(
        cls, count: int = 8, horizon: int = 24, gap: int = 0, length: int | None = None, **rest: Any
    ) -> "Folds":
        """Each fold learns from the last `length` steps before its cutoff."""
        return cls.parse(
            {"kind": "sliding", "count": count, "horizon": horizon, "gap": gap, "length": length, **rest}
        )  # fmt: skip

    @classmethod
    def single(
        cls, share: float | None = None, count: int | None = None, at: int | str | None = None, horizon: int = 24,
        **rest: Any,
    ) -> "Folds":  # fmt: skip
        """One hold-out: the last `share` of all steps, the last `count` of them, or everything from `at` on."""
        cutoffs = () if at is None else (_plain(at),)
        return cls.parse(
            {"kind": "single", "share": share, "span": count, "cutoffs": cutoffs, "horizon": horizon, **rest}
        )  # fmt: skip

    @classmethod
    def at(cls, moments: Sequence[Any], horizon: int = 24, **rest: Any) -> "Folds":
        """A fold at each of the times (or positions) given; what is there by then is known."""
        return cls.parse({"kind": "at", "cutoffs": tuple(map(_plain, moments)), "horizon": horizon, **rest})

    @classmethod
    def calendar(
        cls, every: Period = "month", learn: int = 20, hidden: bool = False, horizon: int = 24, count: int = 8,
        origin_every: int | None = None, **rest: Any,
    ) -> "Folds":  # fmt: skip
        """The first `learn` days of `every` week, month, quarter or year are learned, the rest is scored.

        Forecasts start where learning ends and every `origin_every` steps after it. Where the scored days are `hidden`,
        no later fold ever knows them.
        """
        given = {"period": every, "learn": learn, "hidden": hidden, "horizon": horizon, "count": count,
                 "every": origin_every}  # fmt: skip
        return cls.parse({"kind": "calendar", **given, **rest})

    def resolve(self, panel: Panel) -> list[Fold]:
        """Positions on this panel of the folds that are not sealed, earliest first.

        Raises `TooShortError` when they do not fit, `SettingsError` where all would be sealed.
        """
        found = self._all(panel)
        if self.sealed >= len(found):
            raise SettingsError(f"Of {counted(len(found), 'fold')} at least one stays open.", field="folds.sealed")
        return found[: len(found) - self.sealed]

    def resolve_sealed(self, panel: Panel) -> list[Fold]:
        """Positions of the sealed folds, which follow those that `resolve` gives."""
        return self._all(panel)[-self.sealed :] if self.sealed else []

    def _all(self, panel: Panel) -> list[Fold]:
        if self.kind == "calendar":
            found = self._by_calendar(panel)
        elif self.kind in ("single", "at"):
            found = [self._fold(panel, cutoff, stop) for cutoff, stop in self._given(panel)]
        else:
            found = list(self._walking(panel))
        return self._learned_together(found, int(panel.starts.min()))

    def _fold(self, panel: Panel, cutoff: int, score_stop: int) -> Fold:
        """A fold that learns from all before its cutoff."""
        fold = Fold(
            learn_start=int(panel.starts.min()), cutoff=cutoff, gap=self.gap, horizon=self.horizon,
            every=self.every or self.horizon, score_stop=score_stop, steps=tuple(sorted(set(self.steps))),
        )  # fmt: skip
        return replace(fold, scored=self._in_months(panel, fold)) if self.months else fold

    def _in_months(self, panel: Panel, fold: Fold) -> Spans:
        """The parts of what a fold scores that lie in the chosen months; an empty one where none does."""
        positions = np.arange(fold.score_start, fold.score_stop)
        month = panel.axis.local(positions).astype("datetime64[M]").astype(np.int64) % 12 + 1
        inside = np.concatenate([[False], np.isin(month, self.months), [False]])
        edges = np.flatnonzero(inside[1:] != inside[:-1]) + fold.score_start
        spans = tuple((int(start), int(stop)) for start, stop in edges.reshape(-1, 2))
        return spans or ((fold.score_start, fold.score_start),)

    def _walking(self, panel: Panel) -> Iterator[Fold]:
        """Counted backwards from the last point; where months are chosen, folds that score nothing are passed over."""
        span = self.span or self.horizon
        spacing = self.spacing or span
        last = panel.end - self.gap - span
        earliest = int(panel.starts.min())
        found: list[Fold] = []
        cutoff = last
        while len(found) < self.count and cutoff - earliest >= 2:
            fold = self._fold(panel, cutoff, cutoff + self.gap + span)
            if len(fold.origins):
                found.insert(0, fold)
            cutoff -= spacing
        if len(found) < self.count:
            where = f"; {counted(len(found), 'fold lies', 'folds lie')} in the chosen months" if self.months else ""
            raise TooShortError(
                f"{counted(self.count, 'fold')} of {counted(span, 'step')} every {spacing}, with a gap of {self.gap}, "
                f"need more than {panel.end - earliest} steps: the first would have nothing to learn from{where}.",
                field="folds",
            )
        yield from found

    def _given(self, panel: Panel) -> list[tuple[int, int]]:
        """Cutoffs and ends of what is scored, where they are given."""
        earliest, end = int(panel.starts.min()), panel.end
        if self.kind == "single" and not self.cutoffs:
            size = self.span or max(round((self.share or _SHARE) * (end - earliest)), 1)
            cutoffs = [end - self.gap - size]
        else:
            cutoffs = sorted({panel.known(moment) for moment in self.cutoffs})
        reach = self.span or (end if self.kind == "single" else self.horizon)
        for cutoff in cutoffs:
            if cutoff - earliest < 2:
                raise TooShortError("The first fold would have nothing to learn from.", field="folds")
            if cutoff + self.gap >= end:
                when = str(panel.axis.local(np.array([max(cutoff - 1, 0)]))[0]).replace("T", " ")
                raise TooShortError(f"Nothing follows the cutoff after {when} that could be scored.", field="folds")
        return [(cutoff, min(cutoff + self.gap + reach, end)) for cutoff in cutoffs]

    def _by_calendar(self, panel: Panel) -> list[Fold]:
        """The last folds of a calendar pattern, each with what it may never know."""
        starts, cutoffs = _pattern(panel, self.period, self.learn)
        stops = [*starts[1:], panel.end]
        earliest = int(panel.starts.min())
        resting = [(cutoff, stop) for cutoff, stop in zip(cutoffs, stops, strict=True) if cutoff < stop]
        folds = []
        for cutoff, stop in resting:
            if cutoff - earliest < 2 or cutoff + self.gap >= stop:
                continue
            fold = self._fold(panel, cutoff, stop)
            past = tuple(span for span in resting if span[0] <= cutoff)
            fold = replace(fold, hidden=past) if self.hidden else fold
            if len(fold.origins) and (not self.hidden or _known(earliest, cutoff, past) >= 2):
                folds.append(fold)
        if not folds:
            raise TooShortError(
                f"No {self.period} has {counted(self.learn, 'day')} to learn from and something after them to score.",
                field="folds",
            )
        return folds[-self.count :]

    def _learned_together(self, folds: list[Fold], earliest: int) -> list[Fold]:
        """Which cutoff's parameters each fold uses, and how far back it learns."""
        every = self.refit or len(folds)
        length = self.length or max(folds[0].cutoff - earliest, 2)
        out = []
        for place, fold in enumerate(folds):
            learned_at = folds[place - place % every].cutoff
            start = max(learned_at - length, earliest) if self.kind == "sliding" else earliest
            out.append(replace(fold, learn_start=start, learned_at=None if learned_at == fold.cutoff else learned_at))
        return out


def _plain(moment: Any) -> int | str:
    """A moment as settings hold it: a position, or a time as text."""
    if isinstance(moment, (bool, float)):
        raise SettingsError(f"“{moment}” is neither a time nor a position.", field="cutoffs")
    return int(moment) if isinstance(moment, (int, np.integer)) else str(moment)


def _known(earliest: int, cutoff: int, hidden: Spans) -> int:
    """How many positions before the cutoff are not hidden."""
    return cutoff - earliest - sum(min(stop, cutoff) - max(start, earliest) for start, stop in hidden if start < cutoff)


def _pattern(panel: Panel, period: Period, learn: int) -> tuple[list[int], list[int]]:
    """First grid positions of every period in the panel, and of what follows its first `learn` days."""
    days = panel.axis.local(np.arange(panel.end)).astype("datetime64[D]")
    number = days.astype(np.int64)
    if period == "week":
        codes: Ints = (number + 3) // 7  # 1970-01-01 was a Thursday
        begun = codes * 7 - 3
    else:
        size = {"month": 1, "quarter": 3, "year": 12}[period]
        codes = days.astype("datetime64[M]").astype(np.int64) // size
        begun = (codes * size).astype("datetime64[M]").astype("datetime64[D]").astype(np.int64)
    starts = np.flatnonzero(np.concatenate([[True], codes[1:] != codes[:-1]]))
    ends = [*starts[1:].tolist(), panel.end]
    since = number - begun
    cutoffs = [int(start + np.searchsorted(since[start:end], learn)) for start, end in zip(starts, ends, strict=True)]
    return starts.tolist(), cutoffs
