"""A blend of what suits a series, found within a budget."""

from collections.abc import Sequence
from dataclasses import replace
from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.forecasters.automatic.trials import Budget, Trials, members_of
from proteron.core.forecasters.blend.weights import LEVELS, blended
from proteron.core.forecasters.forecaster import Forecaster, ForecasterState, Progress, Tried, Work, unheard
from proteron.core.forecasters.safeguards import Safeguards
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints


class Automatic(Forecaster):
    """Smoothing, theta, the season-aligned ridge and ARIMA, as they are and on logarithms, as far as each suits; the
    forecast is their mean weighted by the errors of three refits on earlier parts, none of which sees what it is
    scored on. No forecast does what the series has never done.
    """

    title: ClassVar[str] = "automatic"
    family: ClassVar[str] = "automatic"
    can: ClassVar[tuple[str, ...]] = ("trend", "seasons", "gaps", "ranges")
    cost: ClassVar[float] = 20_000.0
    least: ClassVar[int] = 2
    kind: Literal["automatic"] = "automatic"
    seconds: float | None = Field(
        None, gt=0, title="Seconds a series", description="How many fits there is time for; those done are told."
    )
    fits: int | None = Field(None, ge=1, title="Fits a series", description="Gives the same again; empty: all.")

    def learn(self, known: Panel, work: Work) -> ForecasterState:
        """Learn from flat values that end at the cutoff; series with too few points get no forecast."""
        arrays: dict[str, Any] = {"first": known.starts.astype(np.int64)}
        told: dict[str, Any] = {}
        declined: dict[str, str] = {}
        for index, key in enumerate(known.keys):
            work.go_on()
            alone = known.select([index])
            if np.isfinite(alone.values).sum() < self.least:
                declined[key] = f"Automatic needs {self.least} known points."
                continue
            trials = Trials(alone, work.horizon)
            trials.run(replace(work, report=unheard), Budget(self.fits, self.seconds))
            told[key], mine = trials.told()
            arrays |= {f"{index}.{name}": each for name, each in mine.items()}
            work.report(Progress((index + 1) / len(known), key))
        return ForecasterState(known.keys, arrays, {"series": told, "declined": declined})

    def means(self, state: ForecasterState, panel: Panel, origins: Ints, horizon: int) -> Floats:
        """Flat means (n_series, n_origins, horizon), each reading points before its origin only."""
        out = np.full((len(panel), len(origins), horizon), np.nan)
        for index, key in enumerate(panel.keys):
            if key in state.facts["series"]:
                out[index] = _Blend(state, panel, index).means(origins, horizon)
        return out

    def ranges(
        self, state: ForecasterState, panel: Panel, origins: Ints, horizon: int, levels: Sequence[float]
    ) -> Floats | None:
        """Flat ranges (n_levels, 2, n_series, n_origins, horizon): the mean of the candidates', around the blend."""
        out = np.full((len(levels), 2, len(panel), len(origins), horizon), np.nan)
        for index, key in enumerate(panel.keys):
            if key in state.facts["series"]:
                out[:, :, index] = _Blend(state, panel, index).ranges(origins, horizon, levels)
        return out

    def simulate(
        self, state: ForecasterState, panel: Panel, origin: int, horizon: int, count: int, seed: int
    ) -> Floats | None:
        """Flat joint paths from one origin, (count, n_series, horizon): each a path of one candidate, drawn by its
        weight, around the blend."""
        out = np.full((count, len(panel), horizon), np.nan)
        for index, key in enumerate(panel.keys):
            if key in state.facts["series"]:
                out[:, index] = _Blend(state, panel, index).paths(origin, horizon, count, seed)
        return out if np.isfinite(out).any() else None

    def declined(self, state: ForecasterState) -> dict[str, str]:
        """Reasons by key of series without a forecast."""
        return dict(state.facts["declined"])

    def tried(self, state: ForecasterState, key: str) -> list[Tried]:
        """Candidates with their errors, the best first, and why one is missing."""
        told = state.facts["series"].get(key, _NOTHING)
        rows = [
            Tried(f"{name}, {100 * weight:.0f} %" if weight else name, error, reason)
            for name, weight, error, reason in zip(
                told["candidates"], told["weights"], told["errors"], told["reasons"], strict=True
            )
        ]
        return sorted(rows, key=lambda each: np.inf if each.criterion is None else each.criterion)

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        """The weight of every candidate."""
        told = state.facts["series"].get(key, _NOTHING)
        return dict(zip(told["candidates"], told["weights"], strict=True))

    def summary(self, state: ForecasterState, key: str) -> str:
        """What was weighed, in one sentence."""
        told = state.facts["series"].get(key)
        if told is None:
            return f"No forecast: {state.facts['declined'][key]}"
        order = sorted(told["used"], key=lambda place: -told["weights"][place])
        parts = ", ".join(f"{told['candidates'][place]} {100 * told['weights'][place]:.0f} %" for place in order)
        folds = len(told["cuts"])
        judged = f"weighed by {folds} refits on earlier parts" if folds else "too short to be weighed, all alike"
        return f"{parts}; {judged}, {told['fits']} fits in all."


_NOTHING: dict[str, list[Any]] = {"candidates": [], "weights": [], "errors": [], "reasons": []}


class _Blend:
    """What was learned of one series of a panel, asked from any origin."""

    def __init__(self, state: ForecasterState, panel: Panel, index: int) -> None:
        key = panel.keys[index]
        facts, row = state.facts["series"][key], state.row(key)
        prefix = f"{row}."
        mine = {name.removeprefix(prefix): each for name, each in state.arrays.items() if name.startswith(prefix)}
        self.alone, self.first, self.factors = panel.select([index]), int(state.arrays["first"][row]), facts["factors"]
        self.members = members_of(key, facts, mine)
        self.weights = np.array([each.weight for each in self.members])
        self.guard = Safeguards.from_document(facts["guard"])

    def _kept(self, found: Floats, origins: Ints) -> Floats:
        """Within what the series has done; `found` (…, n_origins, horizon)."""
        at = origins - int(self.alone.starts[0])
        return self.guard.kept(found, self.alone.series(0), at, int(self.alone.starts[0]) - self.first)

    def _each(self, origins: Ints, horizon: int) -> Floats:
        """Kept means of every member, (n_members, n_origins, horizon)."""
        found = [each.candidate.means(each.state, self.alone, origins, horizon) for each in self.members]
        return self._kept(np.array(found).reshape(len(found), len(origins), horizon), origins)

    def means(self, origins: Ints, horizon: int) -> Floats:
        """(n_origins, horizon)."""
        return blended(self._each(origins, horizon), self.weights)

    def ranges(self, origins: Ints, horizon: int, levels: Sequence[float]) -> Floats:
        """(n_levels, 2, n_origins, horizon); NaN where no member has any."""
        each = self._each(origins, horizon)
        apart = np.full((len(self.members), len(levels), 2, *each.shape[1:]), np.nan)
        for place, member in enumerate(self.members):
            ends = member.candidate.ranges(member.state, self.alone, origins, horizon, levels)
            if ends is not None:
                apart[place] = ends - each[place]
        factors = np.interp(levels, LEVELS, self.factors)[:, None, None, None]
        return self._kept(blended(each, self.weights) + factors * blended(apart, self.weights), origins)

    def paths(self, origin: int, horizon: int, count: int, seed: int) -> Floats:
        """(count, horizon); NaN where no member has any."""
        origins, rng = np.array([origin]), np.random.default_rng(seed)
        middle = self.means(origins, horizon)[0]
        found = [each.candidate.paths(each.state, self.alone, origin, horizon, count, seed) for each in self.members]
        able = [place for place, each in enumerate(found) if each is not None and np.isfinite(each).all()]
        if not able:
            return np.full((count, horizon), np.nan)
        drawn = rng.choice(able, count, p=self.weights[able] / self.weights[able].sum())
        factor, out = float(np.interp(0.8, LEVELS, self.factors)), np.empty((count, horizon))
        for place in able:
            rows = drawn == place
            mine = self.members[place]
            mean = mine.candidate.means(mine.state, self.alone, origins, horizon)[0]
            paths = found[place]
            assert paths is not None
            out[rows] = middle + factor * (paths[rows] - mean)
        return self._kept(out[:, None], origins)[:, 0]
