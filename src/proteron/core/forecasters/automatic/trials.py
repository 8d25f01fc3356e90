"""Candidates tried on one series: learned on all that is known, and on earlier parts that what follows scores."""

import time
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from proteron.core.errors import ProteronError, StoppedError
from proteron.core.forecasters.automatic.candidates import Candidate, candidates_for, order_of_fits
from proteron.core.forecasters.blend.weights import (
    LEVELS,
    blended,
    inverse_weights,
    range_factor,
    shares_of_reach,
    weighed_errors,
)
from proteron.core.forecasters.forecaster import ForecasterState, Work
from proteron.core.forecasters.safeguards import Safeguards
from proteron.core.panel import Floats, Panel
from proteron.core.phases import truths, usual_move

_FOLDS = 3
_OVER = 1.1  # times the budget that may be expected to be used before a fit is not begun


@dataclass(frozen=True)
class Budget:
    """How many fits there may be, and seconds; None: any."""

    fits: int | None = None
    seconds: float | None = None

    def allows(self, done: int, since: float, expected: float) -> bool:
        """Whether there may be one more fit, of so many seconds, after those that are done in the seconds `since`."""
        if self.fits is not None and done >= self.fits:
            return False
        return self.seconds is None or not done or (
            since < self.seconds and since + expected <= _OVER * self.seconds
        )  # fmt: skip


class Trials:
    """The fits to one series; facts and arrays of them are what the automatic forecaster learns."""

    def __init__(self, alone: Panel, horizon: int | None) -> None:
        self.alone, self.values = alone, np.ascontiguousarray(alone.series(0))
        self.start, self.seasons = int(alone.starts[0]), alone.axis.step.whole_seasons
        self.horizon = horizon or max(self.seasons[0] if self.seasons else 1, 1)
        self.candidates = candidates_for(self.values, self.seasons)
        self.cuts = cuts_of(self.values, self.seasons, self.horizon)
        self.guards = [
            Safeguards.learn(self.values[:cut], self.seasons, self.horizon) for cut in (len(self.values), *self.cuts)
        ]
        count = len(self.candidates)
        self.states: dict[int, ForecasterState] = {}
        self.reasons: dict[int, str] = {}
        self.forecasts = np.full((count, len(self.cuts), self.horizon), np.nan)
        self.halves = np.full((count, len(LEVELS), 2, len(self.cuts), self.horizon), np.nan)
        self.done = 0

    def run(self, work: Work, budget: Budget) -> None:
        """Fit one after the other as far as the budget goes; what a candidate cannot do is kept in `reasons`."""
        begun, longest = time.monotonic(), [0.0] * len(self.candidates)
        for place, fold in order_of_fits(self.candidates, len(self.cuts)):
            if place in self.reasons:
                continue
            before = time.monotonic()
            if not budget.allows(self.done, before - begun, longest[place]):
                return
            work.go_on()
            self._fit(place, fold, replace(work, horizon=self.horizon))
            longest[place] = max(longest[place], time.monotonic() - before)

    def _fit(self, place: int, fold: int, work: Work) -> None:
        candidate = self.candidates[place]
        cut = len(self.values) if fold == 0 else self.cuts[fold - 1]
        part = self.alone.between(self.start, self.start + cut)
        self.done += 1
        try:
            state = candidate.learn(part, work)
            if fold == 0:
                self.states[place] = state
                return
            at = np.array([self.start + cut])
            means = candidate.means(state, part, at, self.horizon)
            self.forecasts[place, fold - 1] = self.guards[fold].kept(means, self.values, np.array([cut]))[0]
            ends = candidate.ranges(state, part, at, self.horizon, LEVELS)
            if ends is not None:
                self.halves[place, :, :, fold - 1] = np.abs(ends - means)[:, :, 0]
        except StoppedError:
            raise
        except ProteronError as error:
            if fold == 0:
                self.reasons[place] = error.message

    @property
    def truth(self) -> Floats:
        """What followed each cut, (n_folds, horizon)."""
        return truths(self.alone, self.start + np.array(self.cuts, dtype=np.int64), self.horizon)[0]

    @property
    def scale(self) -> float:
        """What values move by in a season, in the mean."""
        return usual_move(self.values, self.seasons[0] if self.seasons else 1)

    def weighed(self) -> tuple[Floats, dict[int, float], list[float]]:
        """The weight of every candidate, errors of those that folds scored, and by what ranges are stretched."""
        weights = np.zeros(len(self.candidates))
        whole = sorted(self.states)
        scored = [place for place in whole if np.isfinite(self.forecasts[place]).any()]
        errors = np.zeros(0)
        if scored:
            errors = weighed_errors(self.truth, self.forecasts[scored], self.scale)
            weights[scored] = inverse_weights(errors)
        else:
            weights[whole] = 1 / max(len(whole), 1)
        shares = weights[scored]
        middle, halves = blended(self.forecasts[scored], shares), blended(self.halves[scored], shares)
        factors = [
            range_factor(level, shares_of_reach(self.truth, middle, reach))
            for level, reach in zip(LEVELS, halves, strict=True)
        ]
        return weights, dict(zip(scored, errors.tolist(), strict=True)), factors

    def told(self) -> tuple[dict[str, Any], dict[str, NDArray[Any]]]:
        """Facts and arrays of what was found."""
        weights, errors, factors = self.weighed()
        every = range(len(self.candidates))
        used = [place for place in every if weights[place] > 0]
        facts = {
            "candidates": [each.name for each in self.candidates], "used": used, "weights": weights.tolist(),
            "errors": [errors.get(place) for place in every],
            "reasons": [self.reasons.get(place, "") for place in every],
            "facts": [dict(self.states[place].facts) if place in used else {} for place in every],
            "cuts": self.cuts, "fits": self.done, "factors": factors, "guard": self.guards[0].document(),
        }  # fmt: skip
        arrays = {f"{place}.{name}": each for place in used for name, each in self.states[place].arrays.items()}
        return facts, arrays


@dataclass(frozen=True)
class Member:
    """A candidate that has weight in a blend, with what it learned."""

    candidate: Candidate
    state: ForecasterState
    weight: float


def members_of(key: str, facts: Mapping[str, Any], arrays: Mapping[str, NDArray[Any]]) -> list[Member]:
    """Those that `Trials.told` of a series."""
    found = []
    for place in facts["used"]:
        prefix = f"{place}."
        mine = {name.removeprefix(prefix): each for name, each in arrays.items() if name.startswith(prefix)}
        state = ForecasterState((key,), mine, facts["facts"][place])
        found.append(Member(Candidate.named(facts["candidates"][place]), state, facts["weights"][place]))
    return found


def cuts_of(values: Floats, seasons: tuple[int, ...], horizon: int) -> list[int]:
    """After how many points candidates are learned anew, to be scored on what follows: the latest first."""
    season = seasons[0] if seasons else 1
    found = [len(values) - fold * horizon for fold in range(1, _FOLDS + 1)]
    least = max(2 * season + 2, 12)
    return [cut for cut in found if cut > 0 and np.isfinite(values[:cut]).sum() >= least]
