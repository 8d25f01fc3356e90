"""A blend of contenders: a weighted sum of what they forecast, each behind its own chain."""

from collections.abc import Sequence
from dataclasses import replace
from typing import Annotated, ClassVar, Literal, Self

import numpy as np
from pydantic import BeforeValidator, Field, model_validator

from proteron.core.errors import ProteronError, StoppedError
from proteron.core.forecasters.blend.members import FittedMember, Member, MemberContender, Part, members_from
from proteron.core.forecasters.blend.mixing import Mix, Past, mixed
from proteron.core.forecasters.blend.rules import Rule
from proteron.core.forecasters.blend.weights import blended
from proteron.core.forecasters.forecaster import Forecaster, ForecasterState, Progress, Tried, Work
from proteron.core.panel import Floats, Panel
from proteron.core.phases import truths, usual_move
from proteron.core.timeline import Ints

_REFITS = 3
_SHOWN = 6

Placed = list[tuple[list[int], FittedMember]]  # parts of a member, each with the places of the series it holds


class Blend(Rule, Forecaster):
    """A weighted sum of contenders. In walk-forward its members stand on the board too and are not computed again, and
    weights are learned from their errors in earlier folds; elsewhere from refits on three earlier parts. Without
    anything to learn from, all weigh alike.
    """

    title: ClassVar[str] = "blend"
    family: ClassVar[str] = "blend"
    can: ClassVar[tuple[str, ...]] = ("trend", "seasons", "gaps", "ranges")
    listed: ClassVar[bool] = False
    panel_wide: ClassVar[bool] = True
    cost: ClassVar[float] = 0.2

    kind: Literal["blend"] = "blend"
    members: Annotated[tuple[Member, ...], BeforeValidator(members_from)] = Field(min_length=2, title="Members")
    shared: bool = Field(False, title="Shared weights", description="The same for all series, from the errors of all.")
    by_step: bool = Field(False, title="By step", description="Every step ahead has weights of its own.")

    @model_validator(mode="after")
    def _whole(self) -> Self:
        names = [each.name for each in self.members]
        if len(set(names)) < len(names):
            raise ValueError("two members have the same name")
        if self.rule == "given":
            if len(self.weights) != len(names):
                raise ValueError(f"there are {len(names)} members and {len(self.weights)} weights")
            if min(self.weights) < 0 or not 0 < sum(self.weights) < float("inf"):
                raise ValueError("weights are not negative, and not all of them zero")
        for each in self.members:
            if each.contender and each.read.forecaster.family == self.family:
                raise ValueError("members are contenders, not blends again")
        return self

    @property
    def contenders(self) -> dict[str, MemberContender]:
        """Members by name; raises `SettingsError` where one is not described."""
        return {each.name: each.read for each in self.members}

    @property
    def tells_rates(self) -> bool:
        """Where any member does."""
        return any(each.read.forecaster.tells_rates for each in self.members)

    def reads_ahead(self, panel: Panel, horizon: int) -> dict[str, int]:
        """Columns known ahead that any member reads, each up to how many steps after the origin."""
        found: dict[str, int] = {}
        for contender in self.contenders.values():
            for name, steps in contender.forecaster.reads_ahead(panel, horizon).items():
                found[name] = max(steps, found.get(name, 0))
        return found

    def learn(self, known: Panel, work: Work) -> ForecasterState:
        """Learn every member from what is known, and weights from what it forecast of three earlier parts.

        A member that cannot be learned has no weight; raises what the last of them says where none can.
        """
        parts, reasons = [], {}
        for place, (name, contender) in enumerate(self.contenders.items()):
            work.go_on()
            work.report(Progress(place / len(self.members), name))
            try:
                fitted = contender.fit_many([(known, None, work)])[0]
                parts.append([fitted.kept])
            except StoppedError:
                raise
            except ProteronError as error:
                parts.append([])
                reasons[name] = error
        if not any(parts):
            raise list(reasons.values())[-1]
        mix = mixed(self, self._rehearsed(known, work, parts), work.levels, self.shared, self.by_step)
        return self.state_of(known, parts, mix, {name: error.message for name, error in reasons.items()})

    def _rehearsed(self, known: Panel, work: Work, parts: Sequence[Sequence[Part]]) -> Past:
        """What members forecast of the last three times as many steps as are asked for, each learned from what lay
        before."""
        horizon, levels = work.horizon or max(round(known.axis.step.season), 1), work.levels
        cuts = np.array([known.end - times * horizon for times in range(1, _REFITS + 1)], dtype=np.int64)
        shape = (len(parts), len(known), len(cuts), horizon)
        means, halves = np.full(shape, np.nan), np.full((shape[0], len(levels), 2, *shape[1:]), np.nan)
        contenders = list(self.contenders.values())
        for row, cut in enumerate(cuts):
            for place in [place for place, each in enumerate(parts) if each]:
                work.go_on()
                try:
                    fitted = contenders[place].fit_many([(known, int(cut), replace(work, horizon=horizon))])[0]
                    told = fitted.forecast(horizon, levels)
                except StoppedError:
                    raise
                except ProteronError:
                    continue
                means[place, :, row] = told.mean
                for at, level in enumerate(levels):
                    halves[place, at, 0, :, row] = told.mean - told.lower[level]
                    halves[place, at, 1, :, row] = told.upper[level] - told.mean
        return Past(truths(known, cuts, horizon), means, halves, usual_moves(known))

    def state_of(
        self, known: Panel, parts: Sequence[Sequence[Part]], mix: Mix, reasons: dict[str, str] | None = None
    ) -> ForecasterState:
        """What is kept of members, each in one part or, of several groups of series, in more."""
        arrays, told = mix.arrays(), []
        for place, each in enumerate(parts):
            told.append([{"chain": dict(part.chain), "facts": dict(part.facts)} for part in each])
            for number, part in enumerate(each):
                arrays |= {f"{place}.{number}.{name}": array for name, array in part.arrays.items()}
        facts = {"parts": told, "until": known.end, "levels": list(mix.levels), "points": mix.points,
                 "reasons": reasons or {}}  # fmt: skip
        return ForecasterState(known.keys, arrays, facts)

    def _mix(self, state: ForecasterState) -> Mix:
        kept, levels = state.arrays, tuple(state.facts["levels"])
        return Mix(
            kept["weights"], kept["factors"], kept["errors"], kept["without"], levels, int(state.facts["points"])
        )

    def fitted_members(self, state: ForecasterState, panel: Panel) -> list[Placed]:
        """For every member its parts, each with the places in `panel` of the series it holds; of a member that is never
        read, none."""
        found: list[Placed] = []
        read = np.logical_or((state.arrays["weights"] > 0).any(axis=(1, 2)), not self.weighs)
        known = panel.cut_at(int(state.facts["until"]))
        for place, (contender, told) in enumerate(zip(self.contenders.values(), state.facts["parts"], strict=True)):
            found.append([])
            for number, each in enumerate(told if read[place] else []):
                prefix = f"{place}.{number}."
                mine = {n.removeprefix(prefix): a for n, a in state.arrays.items() if n.startswith(prefix)}
                keys = set(each["chain"]["keys"])
                rows = [row for row, key in enumerate(panel.keys) if key in keys]
                if rows:
                    part = known if len(rows) == len(panel) else known.select(rows)
                    fitted = contender.restored(part, int(state.facts["until"]), each["chain"], each["facts"], mine)
                    found[-1].append((rows, fitted))
        return found

    def _each(self, members: list[Placed], panel: Panel, origins: Ints, horizon: int) -> tuple[Floats, Floats]:
        """Means of every member in original and in its flat units, (n_members, n_series, n_origins, horizon)."""
        means = np.full((len(members), len(panel), len(origins), horizon), np.nan)
        flat = means.copy()
        for place, parts in enumerate(members):
            for rows, fitted in parts:
                some = panel if len(rows) == len(panel) else panel.select(rows)
                means[place, rows], flat[place, rows] = fitted.means(some, origins, horizon)
        return means, flat

    def means(self, state: ForecasterState, panel: Panel, origins: Ints, horizon: int) -> Floats:
        """Means (n_series, n_origins, horizon), each reading points before its origin only."""
        found, _ = self._each(self.fitted_members(state, panel), panel, origins, horizon)
        return self.combine(found, self._mix(state).ahead(_rows(state, panel), horizon))

    def parts(self, state: ForecasterState, panel: Panel, key: str, origin: int, horizon: int) -> dict[str, Floats]:
        """Every member's forecast times its weight, (horizon,) each; empty where nothing is weighed."""
        alone = panel.select([panel.index(key)])
        found, _ = self._each(self.fitted_members(state, alone), alone, np.array([origin]), horizon)
        if not self.weighs:
            return {}
        mine = np.broadcast_to(self._mix(state).ahead(_rows(state, alone), horizon), found.shape)[:, 0, 0]
        means, there = found[:, 0, 0], np.isfinite(found[:, 0, 0])
        counted = np.where(there, mine, 0.0)
        told = np.where(there, means, 0.0) * counted / np.maximum(counted.sum(axis=0), 1e-300)
        return {name: each for name, each in zip(self.contenders, told, strict=True) if each.any()}

    def ranges(
        self, state: ForecasterState, panel: Panel, origins: Ints, horizon: int, levels: Sequence[float]
    ) -> Floats | None:
        """Ranges (n_levels, 2, n_series, n_origins, horizon): the mean of the members', around the blend, stretched by
        how they held."""
        members = self.fitted_members(state, panel)
        found, flat = self._each(members, panel, origins, horizon)
        apart = np.full((len(members), len(levels), 2, *found.shape[1:]), np.nan)
        for place, parts in enumerate(members):
            for rows, fitted in parts:
                some = panel if len(rows) == len(panel) else panel.select(rows)
                errors = np.empty((0, len(rows), horizon)) if fitted.has_theory else fitted.flat_errors(horizon)
                ends = fitted.ranges(some, origins, flat[place, rows], levels, errors)
                apart[place][:, :, rows] = ends - found[place, rows]
        return self.around(found, apart, self._mix(state), _rows(state, panel), levels)

    def around(self, means: Floats, apart: Floats, mix: Mix, series: Sequence[int], levels: Sequence[float]) -> Floats:
        """Ends of ranges from members' means (n_members, n_series, n_origins, horizon) and how far their ends lie
        `apart` from them (n_members, n_levels, 2, …)."""
        weights = mix.ahead(series, means.shape[-1])
        return self.combine(means, weights) + mix.stretched(series, levels) * blended(apart, weights[:, None, None])

    def simulate(
        self, state: ForecasterState, panel: Panel, origin: int, horizon: int, count: int, seed: int
    ) -> Floats | None:
        """Joint paths from the cutoff, (count, n_series, horizon): each a future of all series by one member, drawn by
        its mean weight, around the blend."""
        members, rng = self.fitted_members(state, panel), np.random.default_rng(seed)
        mix, series = self._mix(state), _rows(state, panel)
        futures, means = {}, np.full((len(members), len(panel), 1, horizon), np.nan)
        for place, parts in enumerate(members):
            drawn = np.full((count, len(panel), horizon), np.nan)
            for rows, fitted in parts:
                told = fitted.forecast(horizon, ())
                means[place, rows, 0], drawn[:, rows] = told.mean, told.paths(count, seed)
            if np.isfinite(drawn).any():
                futures[place] = drawn
        if not futures:
            return None
        able = list(futures)
        shares = np.maximum(mix.weights[able].mean(axis=(1, 2)), 1e-12)
        middle = self.combine(means, mix.ahead(series, horizon))[:, 0]
        factors = mix.stretched(series, (0.8,)).reshape(1, -1, 1)
        out = np.empty((count, len(panel), horizon))
        taken = rng.choice(able, count, p=shares / shares.sum())
        for place in able:
            mine = taken == place
            out[mine] = middle + factors * (futures[place][mine] - means[place, :, 0])
        return out

    def declined(self, state: ForecasterState) -> dict[str, str]:
        """Series that no member forecasts, with what the first of them says."""
        found = self._declined(state)
        if not all(found):
            return {}
        return {key: why for key, why in found[0].items() if all(key in each for each in found)}

    def _declined(self, state: ForecasterState) -> list[dict[str, str]]:
        """For every member the series that it declined, with what it says."""
        found: list[dict[str, str]] = []
        for contender, parts in zip(self.contenders.values(), state.facts["parts"], strict=True):
            states = [ForecasterState(tuple(part["chain"]["keys"]), {}, part["facts"]) for part in parts]
            found.append({key: why for each in states for key, why in contender.forecaster.declined(each).items()})
        return found

    def look_back(self, state: ForecasterState, known: Panel) -> int:
        """Points a series must have shown before any member's in-sample forecasts count."""
        parts = [each for member in self.fitted_members(state, known) for each in member]
        found = [each.contender.forecaster.look_back(each.state, each.known) for _, each in parts]
        return max(found, default=1)

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        """The weight of every member, in the mean over steps."""
        if not self.weighs:
            return {}
        weights = state.arrays["weights"][:, state.row(key)].mean(axis=1)
        return {each.name: float(weight) for each, weight in zip(self.members, weights, strict=True)}

    def tried(self, state: ForecasterState, key: str) -> list[Tried]:
        """Members with their errors by which they are weighed, the best first, with what each adds: how much more the
        blend errs without it; and why one is missing."""
        row, reasons = state.row(key), state.facts["reasons"]
        weights, rows = self.parameters(state, key), []
        for place, (each, declined) in enumerate(zip(self.members, self._declined(state), strict=True)):
            error, without = state.arrays["errors"][place, row], state.arrays["without"][place, row]
            said = [each.name, *([f"{weights[each.name]:.0%}"] if weights else [])]
            if np.isfinite(without) and (not weights or weights[each.name] > 0):
                said.append(f"without it {without - 1:+.1%}")
            reason = reasons.get(each.name, declined.get(key, ""))
            rows.append(Tried(", ".join(said), float(error) if np.isfinite(error) else None, reason))
        return sorted(rows, key=lambda each: np.inf if each.criterion is None else each.criterion)

    def summary(self, state: ForecasterState, key: str) -> str:
        """Who is blended and how, in one sentence."""
        points = state.facts["points"]
        trimmed = f"their mean without {self.trim:.0%} at each end"
        ways = {"mean": "their mean", "median": "their median", "trimmed": trimmed, "given": "by given weights"}
        order = sorted(self.parameters(state, key).items(), key=lambda each: -each[1])
        if not order:
            return f"{', '.join(each.name for each in self.members)}: {ways[self.rule]}."
        shown = [f"{name} {100 * weight:.0f} %" for name, weight in order if weight > 0.005][:_SHOWN]
        learned = f"weighed by their errors at {points:,} earlier points" if points else "nothing to weigh them by yet"
        return f"{', '.join(shown)}; {ways.get(self.rule, learned)}."

    @property
    def label(self) -> str:
        """Its rule and how many it is of."""
        return f"blend of {len(self.members)}, {self.rule.replace('_', ' ')}"


def _rows(state: ForecasterState, panel: Panel) -> list[int]:
    return [state.row(key) for key in panel.keys]


def usual_moves(known: Panel) -> Floats:
    """What every series moves by in a season, in the mean, (n_series,)."""
    season = max(round(known.axis.step.season), 1)
    return np.array([usual_move(known.series(index), season) for index in range(len(known))])
