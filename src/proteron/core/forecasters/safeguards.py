"""What no forecast may do that a series has never done: learned from what is known, applied to any forecast of it."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from proteron.core.compiled import kernel
from proteron.core.panel import Floats
from proteron.core.phases import known_before
from proteron.core.timeline import Ints

REACH = 1.5  # times the largest move ever seen over as many steps
_FEW_ZEROS = 0.02  # of all values: fewer are no rule
_CYCLES, _LONG_CYCLES, _LONG = 8, 4, 100  # in which a phase was zero without exception; seasons from `_LONG` on
_MOST_STEPS = 2000


@dataclass(frozen=True)
class Safeguards:
    """Largest rises and falls (n_steps,) within 1, 2, … steps, taken to go on in proportion; the floor; whether
    values are whole numbers from zero, and by season which phases (counted from the first point) are always zero."""

    rises: Floats
    falls: Floats
    floor: float
    whole: bool
    zeros: tuple[tuple[int, NDArray[np.bool_]], ...]

    @classmethod
    def learn(cls, values: Floats, seasons: Sequence[int], steps: int) -> "Safeguards":
        """From known values (n,), NaN where missing, for forecasts of so many steps."""
        present = values[np.isfinite(values)]
        rises, falls = largest_moves(np.asarray(values, dtype=float), max(min(steps, len(values) - 1, _MOST_STEPS), 1))
        positive = len(present) > 0 and present.min() >= 0
        often = len(present) > 0 and float((present == 0).mean()) > _FEW_ZEROS
        whole = bool(positive and present.min() == 0 and (present == np.round(present)).all())
        zeros = tuple(
            (season, found) for season in dict.fromkeys(seasons) if (found := _zero_phases(values, season)).any()
        )
        return cls(rises, falls, 0.0 if positive else -np.inf, whole, zeros if often else ())

    def kept(self, means: Floats, values: Floats, at: Ints, since: int = 0) -> Floats:
        """Forecasts (…, n_origins, horizon) from after `at` (n_origins,) of `values` (n,), moved to where they may be;
        NaN stays. Steps count from the last known value; phases from the first point, `since` points before."""
        lasts, missing = known_before(values, at)
        steps, seen = missing[:, None] + np.arange(1, means.shape[-1] + 1), len(self.rises)
        ahead, farther = np.minimum(steps, seen) - 1, REACH * np.maximum(steps / seen, 1.0)
        low, high = (lasts[:, None] - farther * self.falls[ahead], lasts[:, None] + farther * self.rises[ahead])
        bounded = np.isfinite(lasts)[:, None]
        out = np.maximum(np.where(bounded, np.clip(means, low, high), means), self.floor)
        if self.whole:
            out = np.where(out < 0.5, 0.0, out)
        for season, phases in self.zeros:
            out = np.where(phases[(since + at[:, None] + np.arange(means.shape[-1])) % season], 0.0, out)
        return np.where(np.isnan(means), np.nan, out)

    def document(self) -> dict[str, object]:
        return {
            "rises": self.rises.tolist(), "falls": self.falls.tolist(),
            "floor": None if np.isinf(self.floor) else self.floor, "whole": self.whole,
            "zeros": [[season, np.flatnonzero(phases).tolist()] for season, phases in self.zeros],
        }  # fmt: skip

    @classmethod
    def from_document(cls, told: dict[str, object]) -> "Safeguards":
        zeros = []
        for season, places in told["zeros"]:  # type: ignore[attr-defined]
            phases = np.zeros(season, dtype=bool)
            phases[places] = True
            zeros.append((season, phases))
        floor = told["floor"]
        return cls(
            np.array(told["rises"], dtype=float), np.array(told["falls"], dtype=float),
            -np.inf if floor is None else float(str(floor)), bool(told["whole"]), tuple(zeros),
        )  # fmt: skip


@kernel
def largest_moves(values: Floats, most: int) -> tuple[Floats, Floats]:
    """Largest rises and falls (most,) of values (n,), NaN where missing, within 1, 2, … steps."""
    rises, falls = np.zeros(most), np.zeros(most)
    for step in range(1, most + 1):
        rise, fall = 0.0, 0.0
        for i in range(step, len(values)):
            move = values[i] - values[i - step]  # no comparison holds where one is missing
            rise = move if move > rise else rise
            fall = -move if -move > fall else fall
        rises[step - 1] = max(rise, rises[max(step - 2, 0)])
        falls[step - 1] = max(fall, falls[max(step - 2, 0)])
    return rises, falls


def _zero_phases(values: Floats, season: int) -> NDArray[np.bool_]:
    """Phases of a season that were zero in each of its last cycles; none where there are too few of these."""
    cycles = _LONG_CYCLES if season >= _LONG else _CYCLES
    if season < 2 or len(values) < season * cycles:
        return np.zeros(max(season, 1), dtype=bool)
    first = len(values) - season * cycles
    tail = values[first:].reshape(cycles, season)
    zero = (tail == 0).all(axis=0)
    out = np.zeros(season, dtype=bool)
    out[(first + np.arange(season)) % season] = zero
    return out
