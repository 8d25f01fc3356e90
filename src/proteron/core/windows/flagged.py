"""What was found anomalous lately, as of each origin."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.detection.as_of import BLOCK, EXACT, POINT, STEP, Watch
from proteron.core.panel import Floats, Panel
from proteron.core.windows.feature import PLAIN, Feature, Rows, Unit


class Flagged(Feature):
    """How many of the latest points were told to be anomalous by the origin: by themselves at once, by what was
    expected `delay` points later. Nothing is taken back, so that a row knows what was known then."""

    whole_past: ClassVar[bool] = True
    kind: Literal["flagged"] = "flagged"
    reach: int = Field(24, ge=1, le=100_000, title="Reach", description="So many latest points are counted.")
    delay: int = Field(2, ge=0, le=8, title="Delay", description="Points after a point before it is decided.")

    @property
    def names(self) -> tuple[str, ...]:
        """Names of the columns this writes."""
        return (f"flagged {self.reach}",)

    @property
    def unit_bound(self) -> bool:
        """Whether it means something else once values are centred and scaled."""
        return True

    @property
    def units(self) -> tuple[Unit, ...]:
        """How each column follows its series when values are centred and scaled."""
        return (PLAIN,)

    @property
    def look_back(self) -> int:
        """Points up to and including the origin that are read."""
        return 1

    def source_of(self, column: int) -> tuple[int, int]:
        """First and last step relative to the origin that one column reads."""
        return (1 - self.reach, 0)

    def write(self, out: Floats, rows: Rows) -> None:
        """Fill `out` (n_rows, n_columns) for the given rows."""
        told = rows.once(("flagged", self.delay), lambda: told_by(rows.panel, self.delay))
        so_far = np.concatenate([[0.0], np.cumsum(told)])
        first = rows.panel.offsets[rows.series]
        out[:, 0] = so_far[rows.points + 1] - so_far[np.maximum(rows.points + 1 - self.reach, first)]


def told_by(panel: Panel, delay: int) -> Floats:
    """With each point of a panel, (n_points,), whether one was told to be anomalous: itself, or the one `delay` ago."""
    told = np.zeros(len(panel.values))
    for index in range(len(panel)):
        watch = Watch(int(panel.starts[index]), panel.axis.step.whole_seasons, delay)
        watch.add(np.array(panel.series(index)))
        decided = np.flatnonzero(np.isin(watch.kinds, (POINT, BLOCK, STEP))) + delay
        at = np.concatenate([decided[decided < watch.points], np.flatnonzero(watch.kinds == EXACT)])
        np.add.at(told, panel.offsets[index] + at, 1.0)
    return told
