"""Safeguards of every series of a panel, learned as of a cutoff and applied to any forecast of it."""

from collections.abc import Mapping
from dataclasses import dataclass, fields
from typing import Any

import numpy as np
from numpy.typing import NDArray

from proteron.core.forecasters.safeguards import REACH, Safeguards
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints

_PREFIX = "safeguards."


@dataclass(frozen=True)
class Guards:
    """What no forecast of a panel's series may do, series by series: largest `rises` and `falls` (n_series, n_steps),
    `floors` (n_series,), which are `whole` numbers from zero (n_series,), where each begins, and `zeros` (n, 3): a
    series, a season, a phase that was always zero."""

    keys: tuple[str, ...]
    rises: Floats
    falls: Floats
    floors: Floats
    whole: NDArray[np.bool_]
    starts: Ints
    zeros: Ints

    @classmethod
    def learn(cls, known: Panel, horizon: int) -> "Guards":
        """From what is known, for forecasts of so many steps."""
        seasons = [length for length in (round(each) for each in known.axis.step.seasons[:2]) if length > 1]
        found = [Safeguards.learn(known.series(index), seasons, horizon) for index in range(len(known))]
        rises, falls = (
            np.array([_stretched(getattr(each, name), horizon) for each in found]) for name in ("rises", "falls")
        )
        zeros = [
            (index, season, phase) for index, each in enumerate(found)
            for season, phases in each.zeros for phase in np.flatnonzero(phases)
        ]  # fmt: skip
        return cls(
            known.keys, rises, falls, np.array([each.floor for each in found]),
            np.array([each.whole for each in found]), known.starts.astype(np.int64),
            np.array(zeros, dtype=np.int64).reshape(-1, 3),
        )  # fmt: skip

    def arrays(self) -> dict[str, NDArray[Any]]:
        """As they are kept beside what a forecaster learned."""
        return {_PREFIX + each.name: getattr(self, each.name) for each in fields(self) if each.name != "keys"}

    @classmethod
    def apart(
        cls, keys: tuple[str, ...], arrays: Mapping[str, NDArray[Any]]
    ) -> "tuple[dict[str, NDArray[Any]], Guards | None]":
        """Other arrays, and the guards of series by key that were kept among them, None where there are none."""
        mine = {name.removeprefix(_PREFIX): each for name, each in arrays.items() if name.startswith(_PREFIX)}
        others = {name: each for name, each in arrays.items() if not name.startswith(_PREFIX)}
        return others, cls(keys, **mine) if mine else None

    def of(self, key: str, floor: float | None, rates: bool = False) -> Safeguards:
        """Those of one series; `floor` stands in for what history says. `rates` need not be whole."""
        row = self.keys.index(key)
        lowest = float(self.floors[row]) if floor is None else floor
        mine, zeros = self.zeros[self.zeros[:, 0] == row], []
        for season in np.unique(mine[:, 1]).tolist():
            phases = np.zeros(season, dtype=bool)
            phases[mine[mine[:, 1] == season, 2]] = True
            zeros.append((season, phases))
        return Safeguards(self.rises[row], self.falls[row], lowest, bool(self.whole[row]) and not rates, tuple(zeros))

    def kept(
        self, found: Floats, panel: Panel, origins: Ints, floor: float | None = None, rates: bool = False
    ) -> Floats:
        """Forecasts (…, n_series, n_origins, horizon) of a panel on the axis that was learned on, moved to where they
        may be; of series that nothing is known of as they are."""
        out = found.copy()
        for index, key in enumerate(panel.keys):
            if key in self.keys:
                since = int(panel.starts[index]) - int(self.starts[self.keys.index(key)])
                mine = self.of(key, floor, rates)
                out[..., index, :, :] = mine.kept(
                    out[..., index, :, :], panel.series(index), origins - int(panel.starts[index]), since
                )
        return out

    def in_words(self, key: str, floor: float | None = None, rates: bool = False) -> str:
        """What they are for a series, in one sentence."""
        mine = self.of(key, floor, rates)
        parts = [f"no step beyond {REACH:g} × the largest move seen over as many"]
        if np.isfinite(mine.floor):
            parts.append(f"none below {mine.floor:g}")
        if mine.whole:
            parts.append("zero where less than a half is forecast of whole numbers")
        if mine.zeros:
            season, phases = mine.zeros[0]
            parts.append(f"zero in {int(phases.sum())} of {season} slots that were zero in every recent cycle")
        return f"Held to what the series has done: {', '.join(parts)}."


def _stretched(moves: Floats, steps: int) -> Floats:
    """As many steps as are wanted, the last going on in proportion."""
    every = np.arange(1, steps + 1)
    return moves[np.minimum(every, len(moves)) - 1] * np.maximum(every / len(moves), 1.0)
