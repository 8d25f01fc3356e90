"""Outlooks that are made, as they are read: chances, totals, words."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from proteron.core.errors import SettingsError
from proteron.core.outlook.chances import Chance, Peak, chance, peak
from proteron.core.outlook.drawing import apart
from proteron.core.outlook.errors import share_held
from proteron.core.outlook.sentences import Said, whole_paragraph, whole_sentence
from proteron.core.outlook.totals import How, Totals, totals
from proteron.core.panel import Floats, Panel
from proteron.core.phases import truths
from proteron.records.database import ConflictError, unpack_arrays
from proteron.records.models import OutlookRecord
from proteron.records.outlooks import get_outlook, paths_of
from proteron.services.resources import Resources

Arrays = dict[str, NDArray[Any]]


@dataclass(frozen=True)
class Made:
    """An outlook that was made, with the panel it was made from; older ones do not tell how their ranges held."""

    record: OutlookRecord
    panel: Panel
    arrays: Arrays

    @property
    def levels(self) -> list[float]:
        """Of its ranges, the narrowest first."""
        return sorted(_levels(self.arrays))

    @property
    def origin(self) -> int:
        """How many points were known."""
        return int(self.arrays["origin"])

    @property
    def horizon(self) -> int:
        """Steps ahead."""
        return int(self.arrays["mean"].shape[1])

    def held(self, level: float) -> tuple[float | None, int]:
        """How often such ranges of earlier errors held later ones, and of how many; None where nothing is known."""
        if "held" not in self.arrays:
            return None, 0
        return share_held(self.arrays["held"][_levels(self.arrays).index(level)], self.arrays["held of"])

    def truth(self, index: int) -> Floats:
        """What came of a series, (horizon,), NaN where it is not in the data."""
        return truths(self.panel, np.array([self.origin]), self.horizon)[index, 0]

    @property
    def how(self) -> str:
        """What ranges were made of: walk-forward, rehearsals, theory."""
        return str(self.arrays.get("how", "walk-forward"))

    @property
    def notes(self) -> list[str]:
        """What is to be known of it."""
        return [str(each) for each in self.arrays.get("notes", ())]

    @property
    def paths(self) -> int:
        """How many paths were drawn; 0 for what was made before they were kept."""
        return int(self.arrays.get("drawn", 0))

    @property
    def seed(self) -> int | None:
        """Of the draws; None for what was made before it was kept."""
        return int(self.arrays["seed"]) if "seed" in self.arrays else None

    def ranges(self) -> dict[float, tuple[Floats, Floats]]:
        """Both ends of every range by level, (n_series, horizon) each."""
        return {level: (self.arrays[f"lower {level}"], self.arrays[f"upper {level}"]) for level in self.levels}

    def errors(self, index: int) -> int:
        """How many origins the ranges of a series rest on; 0 where that is not known."""
        return int(self.arrays["errors"][index]) if "errors" in self.arrays else 0


def _levels(arrays: Arrays) -> list[float]:
    """In the order in which they are kept."""
    return [float(name.removeprefix("lower ")) for name in arrays if name.startswith("lower ")]


def load(reach: Resources, outlook_id: int) -> tuple[OutlookRecord, Made | None]:
    """An outlook, and what it came to once it is made."""
    with reach.database.session() as session:
        record = get_outlook(session, outlook_id)
    if not record.arrays:
        return record, None
    return record, Made(record, reach.panel(record.dataset_id), unpack_arrays(record.arrays))


def made(reach: Resources, outlook_id: int) -> Made:
    """One that is made; raises `ConflictError` for one that is not yet."""
    _, found = load(reach, outlook_id)
    if found is None:
        raise ConflictError("This outlook is not finished yet.", field="state")
    return found


def paths(reach: Resources, found: Made, series: int | None = None) -> Floats:
    """Its paths (n_paths, n_series, horizon), of one series where it is named."""
    with reach.database.session() as session:
        out = paths_of(session, found.record.id, found.horizon, series)
    if not out.size:
        raise ConflictError("This outlook was made before paths were kept: make it again.", field="state")
    return out


def chances(
    reach: Resources, found: Made, series: int, above: float | None, below: float | None, run: int
) -> tuple[Chance, Peak]:
    """That a level is passed by a series, and when it is highest."""
    mine = paths(reach, found, series)
    return chance(mine, above, below, run), peak(mine)


def totals_of(
    reach: Resources, found: Made, by: str | None, how: How, groups: Mapping[str, Sequence[str]] | None,
    series: int | None, joint: bool = True,
) -> Totals:  # fmt: skip
    """Of a series, or of groups of them; not `joint`, as if no errors belonged together."""
    panel, mean = found.panel, found.arrays["mean"]
    one = None if groups is not None else series
    if one is not None:
        panel, mean = panel.select([one]), mean[[one]]
    drawn = paths(reach, found, one)
    if not joint:
        drawn = apart(drawn, found.seed or 0)
    return totals(panel, found.origin, mean, drawn, found.levels, by, how, groups)


def words(
    reach: Resources, found: Made, series: int, unit: str, step: int, level: float | None, above: float | None
) -> tuple[str, str]:
    """A step of a series in a sentence, and all in a paragraph; raises `SettingsError` for a level without range."""
    wanted = level if level is not None else max(found.levels, default=None)
    if wanted is not None and wanted not in found.levels:
        raise SettingsError(f"There is no range of {wanted:g} here.", field="level")
    low, high = (None if wanted is None else found.arrays[f"{name} {wanted}"][series] for name in ("lower", "upper"))
    share, of = (None, 0) if wanted is None else found.held(wanted)
    known = found.panel.cut_at(found.origin)
    said = Said(
        known.axis, known.keys[series], unit, found.origin, found.arrays["mean"][series], low, high, wanted,
        paths(reach, found, series)[:, 0], known.series(series), share, of, found.errors(series), found.how,
    )  # fmt: skip
    return whole_sentence(said, found.origin + step, above), whole_paragraph(said)
