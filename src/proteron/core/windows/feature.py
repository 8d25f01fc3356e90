"""What every window feature is: settings that write columns for rows with given origins."""

from abc import abstractmethod
from collections.abc import Callable, Hashable
from dataclasses import dataclass, field
from typing import Any, ClassVar

from proteron.core.documents import Settings
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints


@dataclass(frozen=True)
class Rows:
    """Where rows stand: all arrays are (n_rows,).

    `points` indexes the origin's value in the panel's flat array, `series` the series, `positions`
    the origin's place on the grid. Evenly spaced rows are also listed as `spans`: first row, number
    of rows, first point, points from one to the next.
    """

    panel: Panel
    points: Ints
    series: Ints
    positions: Ints
    first_ahead: int  # the first horizon, in steps after the origin
    spans: tuple[tuple[int, int, int, int], ...] = ()
    kept: dict[Hashable, Any] = field(default_factory=dict, compare=False, repr=False)

    def once(self, key: Hashable, compute: Callable[[], Any]) -> Any:
        """What `compute` gives, computed once for all features that ask under the same key."""
        if key not in self.kept:
            self.kept[key] = compute()
        return self.kept[key]


@dataclass(frozen=True)
class Unit:
    """How a column follows its series: where every value is level + spread × z, a cell is `moves` × level + the cell
    of z, times spread where it `scales`.

    `as_scaled` columns follow several series at once and can only be told as they stand in the scaled table.
    """

    scales: bool = True
    moves: float = 0.0
    as_scaled: bool = False


PLAIN = Unit(scales=False)  # of no unit of the series: a calendar, a count, a covariate
SPREAD = Unit()  # a difference of values
VALUE = Unit(moves=1.0)  # a value


class Feature(Settings):
    """A block of columns computed from points at or before each row's origin, or known ahead."""

    version: ClassVar[int] = 1
    whole_past: ClassVar[bool] = False  # whether everything from the series' first point on is read
    kind: str

    @property
    @abstractmethod
    def names(self) -> tuple[str, ...]: ...

    @property
    @abstractmethod
    def units(self) -> tuple[Unit, ...]:
        """How each column follows the series when its values are centred and scaled, one per name."""

    @property
    def look_back(self) -> int:
        """How many points up to and including the origin are read."""
        return 0

    @property
    def pooled(self) -> bool:
        """Whether a row reads other series than its own."""
        return False

    @property
    def unit_bound(self) -> bool:
        """Whether it means something else once values are centred and scaled."""
        return False

    @property
    def may_be_missing(self) -> bool:
        """Whether a cell can be undefined although every point it reads is known."""
        return False

    @property
    def columns(self) -> tuple[str, ...]:
        """Covariates this feature reads."""
        return ()

    def source_of(self, column: int) -> tuple[int, int]:
        """First and last step relative to the origin (0) that one column reads."""
        return (0, 0)

    @abstractmethod
    def write(self, out: Floats, rows: Rows) -> None:
        """Fill `out` (n_rows, n_columns); missing cells become NaN."""
