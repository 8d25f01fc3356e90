"""Holidays and other named occasions as effects with a window around them."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.flatten.stage import AdditiveStage, Calendar, Figure, Group, StageState, require
from proteron.core.panel import Floats, Occasion
from proteron.core.timeline import Ints


class OccasionEffects(AdditiveStage):
    """Take out the mean deviation of each occasion's steps from the typical value around it.

    Occasions with the same name share one effect. Around every span `before` and `after` steps count
    to it as slots of their own. An effect is shrunk towards zero as if `doubt` more points had shown none.
    """

    title: ClassVar[str] = "occasions"
    group: ClassVar[Group] = "season"
    kind: Literal["occasion_effects"] = "occasion_effects"
    shareable: ClassVar[bool] = False
    before: int = Field(0, ge=0, le=1000, title="Before", description="Steps before an occasion that count to it.")
    after: int = Field(0, ge=0, le=1000, title="After", description="Steps after an occasion that count to it.")
    doubt: float = Field(2.0, ge=0, title="Doubt", description="Points without an effect that are added to each.")

    def fit(self, values: Floats, positions: Ints, calendar: Calendar) -> StageState:
        """Learn from known values (n_known,) at grid `positions`; raises `TooShortError` or `UnitsError`."""
        require(values, self.needs, self.title)
        if not calendar.occasions:
            return StageState({}, ("the dataset names no occasions: nothing is taken out",))
        end = int(positions[-1]) + 1
        inside = np.zeros(len(values), dtype=bool)
        for each in calendar.occasions:
            inside |= self._covers(each, positions)
        season = max(calendar.axis.step.season, 1)
        typical = _typical(values, inside, positions % season, season)
        arrays: dict[str, Floats | np.float64] = {}
        notes: list[str] = []
        for name in sorted({each.name for each in calendar.occasions}):
            mine = [each for each in calendar.occasions if each.name == name]
            if not any(each.start - self.before < end for each in mine):
                notes.append(f"{name} has not happened yet: no effect learned")
                continue
            arrays[f"effect {name}"] = self._effects(mine, values - typical, positions)
        return StageState(arrays, tuple(notes))

    def _covers(self, occasion: Occasion, positions: Ints) -> "np.ndarray[tuple[int, ...], np.dtype[np.bool_]]":
        return (positions >= occasion.start - self.before) & (positions < occasion.stop + self.after)

    def _slots(self, occasion: Occasion, positions: Ints) -> Ints:
        """Which effect holds at each position: a step before, the occasion itself, a step after; -1 outside."""
        early = positions - (occasion.start - self.before)
        late = positions - occasion.stop
        slots = np.where(late >= 0, self.before + 1 + late, np.minimum(early, self.before))
        return np.where(self._covers(occasion, positions), slots, -1)

    def _effects(self, occasions: list[Occasion], apart: Floats, positions: Ints) -> Floats:
        sums, counts = np.zeros(self.before + 1 + self.after), np.zeros(self.before + 1 + self.after)
        for each in occasions:
            slots = self._slots(each, positions)
            usable = (slots >= 0) & np.isfinite(apart)
            sums += np.bincount(slots[usable], apart[usable], minlength=len(sums))
            counts += np.bincount(slots[usable], minlength=len(sums))
        return sums / np.maximum(counts + self.doubt, 1e-9)

    def parts(self, state: StageState, positions: Ints, calendar: Calendar) -> dict[str, Floats]:
        """What is taken out at `positions`, (n_positions,) by name."""
        total = np.zeros(np.shape(positions))
        for each in calendar.occasions:
            effects = state.arrays.get(f"effect {each.name}")
            if effects is not None:
                slots = self._slots(each, positions)
                total += np.where(slots >= 0, np.asarray(effects)[np.maximum(slots, 0)], 0.0)
        return {"occasions": total}

    def facts(self, state: StageState) -> dict[str, float]:
        """What was learned, as numbers by name."""
        return {
            name.removeprefix("effect "): float(np.asarray(each)[self.before]) for name, each in state.arrays.items()
        }

    def figures(self, state: StageState, calendar: Calendar) -> list[Figure]:
        """What was learned, as pictures."""
        facts = self.facts(state)
        return [Figure("effect by occasion", tuple(facts), tuple(facts.values()))] if facts else []


def _typical(
    values: Floats, inside: "np.ndarray[tuple[int, ...], np.dtype[np.bool_]]", phases: Ints, season: int
) -> Floats:
    """Median of each phase outside occasions, (n_points,); the overall median where a phase has none."""
    usable = np.isfinite(values) & ~inside
    overall = float(np.median(values[usable])) if usable.any() else float(np.median(values[np.isfinite(values)]))
    figure = np.full(season, overall)
    for phase in np.unique(phases[usable]):
        figure[phase] = np.median(values[usable & (phases == phase)])
    return figure[phases]
