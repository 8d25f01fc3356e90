"""What a forecast needs of columns that are known ahead, and what is lacking of it."""

from dataclasses import dataclass

import numpy as np

from proteron.core.errors import TooShortError
from proteron.core.forecasters.forecaster import Forecaster
from proteron.core.panel import Covariate, Panel


@dataclass(frozen=True)
class Lack:
    """A column that ends before a forecast stops needing it: of which series, and how far it goes in the furthest.

    `steps` are known ahead in that series, `needed` are read.
    """

    column: str
    series: tuple[int, ...]
    steps: int
    needed: int
    last: str


def lacking(panel: Panel, forecaster: Forecaster, horizon: int) -> list[Lack]:
    """Columns of which a forecast of `horizon` steps from the panel's end lacks values, in the order they are read."""
    found = []
    for name, needed in forecaster.reads_ahead(panel, horizon).items():
        column = panel.covariate(name)
        known = np.array([_known_ahead(column, panel, index) for index in range(len(panel))])
        if (known < needed).any():
            furthest = int(known.argmax())
            at = int(panel.starts[furthest] + panel.lengths[furthest] + known[furthest] - 1)
            last = str(panel.axis.local(np.array([at]))[0]).replace("T", " ")
            found.append(Lack(name, tuple(np.flatnonzero(known < needed).tolist()), int(known.max()), needed, last))
    return found


def require_ahead(panel: Panel, forecaster: Forecaster, horizon: int) -> list[int]:
    """The series that lack something of what a forecast reads: nothing is made up for them.

    Raises `TooShortError` where a column ends too early in every series, with what can be done about it.
    """
    found = lacking(panel, forecaster, horizon)
    for lack in found:
        if len(lack.series) == len(panel):
            raise TooShortError(
                f"“{lack.column}” is known up to {lack.last}, {lack.steps} of the {lack.needed} steps ahead that the "
                "forecast reads. Give rows with an empty target that go on, hand over a table of future values, "
                "continue it by “hold last” or “same as last year”, or ask for fewer steps.",
                field="ahead",
            )
    return sorted({index for lack in found for index in lack.series})


def _known_ahead(column: Covariate, panel: Panel, index: int) -> int:
    """How many values without a gap one series' column has after the series' last point."""
    beyond = column.series(index)[int(panel.lengths[index]) :]
    missing = np.flatnonzero(np.isnan(beyond))
    return int(missing[0]) if len(missing) else len(beyond)
