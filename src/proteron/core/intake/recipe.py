"""The recipe: everything that decides how sources become a dataset, as one replayable document."""

from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field

from proteron.core.documents import Settings
from proteron.core.intake.raw import ReaderSettings
from proteron.core.intake.roles import Role
from proteron.core.timeline import STEP_TEXTS

Aggregate = Literal["sum", "mean", "min", "max", "first", "last", "count", "distinct"]
FillMethod = Literal[
    "leave", "carry_last", "linear", "seasonal", "seasonal_level", "moving_average", "flattened", "zero"
]  # fmt: skip


def _tuple(given: Any) -> Any:
    return tuple(given) if isinstance(given, list) else given


class Bucketing(Settings):
    """Raw events to one value per step and key."""

    step: str = Field("1 hour", title="Step", description=f"{STEP_TEXTS}.")
    anchor: str | None = Field(None, title="Anchor", description="A time on the grid; empty: whole steps of the zone.")
    aggregate: Aggregate = Field("count", title="Aggregate", description="Of the target column; count needs none.")
    empty: Literal["zero", "missing"] = Field("zero", title="An empty bucket is")
    empty_of: dict[str, Literal["zero", "missing"]] = Field(default_factory=dict, title="Per key")
    edges: Literal["drop", "keep"] = Field("drop", title="Partial first and last buckets")


class Resampling(Settings):
    """A regular series to another step."""

    step: str = Field(title="Step", description=f"{STEP_TEXTS}.")
    aggregate: Aggregate = Field("mean", title="Aggregate", description="When the new step is longer.")
    aggregate_of: dict[str, Aggregate] = Field(default_factory=dict, title="Per column")
    spread: Literal["repeat", "divide", "linear", "missing"] = Field(
        "repeat", title="When the new step is shorter", description="Repeat a level, divide a sum, or leave gaps."
    )


class Filling(Settings):
    """How gaps are filled; filled points stay marked and never score."""

    method: FillMethod = Field("leave", title="Method")
    longest: int | None = Field(None, ge=1, title="Longest gap", description="Steps; longer gaps stay missing.")
    period: int | None = Field(None, ge=2, title="Season", description="Steps; empty: the step's own.")
    window: int = Field(5, ge=1, title="Window", description="Moving average: known points on each side.")


class MaskedSpan(Settings):
    """A span of time left out, ends included; of one series or of all."""

    start: str
    end: str
    reason: str = Field(min_length=1, max_length=200)
    learning: bool = True
    scoring: bool = True
    series: str | None = None


class OccasionSpan(Settings):
    """A named date or span of dates, ends included."""

    name: str = Field(min_length=1, max_length=100)
    first: str
    last: str | None = None


class PublicHolidays(Settings):
    """Public holidays of a country and, where given, its subdivision, over the data and two years beyond."""

    country: str = Field(min_length=2, max_length=3, title="Country", description="Two letters, such as PT.")
    subdivision: str | None = Field(None, max_length=10)


class Coarser(Settings):
    """Sum series up to a coarser key: a static column's values, or the key parts to keep; neither: one total."""

    by: str | None = Field(None, description="A static column of names, such as the zone of each district.")
    keep: Annotated[tuple[int, ...], BeforeValidator(_tuple)] = Field((), description="Parts of the key, from 0.")
    aggregate: Literal["sum", "mean"] = "sum"


class Recipe(Settings):
    """What was understood and decided about sources; the same recipe on the same sources gives the same hash."""

    schema_version: Literal[1] = 1
    reader: ReaderSettings = ReaderSettings()
    combine: Literal["append", "join"] = "append"
    join_on: tuple[str, ...] = ()
    roles: dict[str, Role] = Field(default_factory=dict, description="Column to role; the rest is guessed.")
    categories: dict[str, bool] = Field(default_factory=dict, description="Column to whether its values are names.")
    time_form: str | None = Field(None, description="Such as “day first”; empty: decided from the whole column.")
    zone: str = "UTC"
    unit: str = Field("", max_length=40)
    step: str | None = Field(None, description=f"{STEP_TEXTS}; empty: inferred.")
    checked: bool = Field(False, description="The data has been through intake: nothing is looked for or mended.")
    period_start: str | None = None
    period_end: str | None = None
    events: Bucketing | None = None
    remedies: dict[str, str] = Field(default_factory=dict, description="Finding to remedy.")
    resampling: Resampling | None = None
    coarser: Coarser | None = None
    exclude: tuple[str, ...] = Field((), description="Series to leave out.")
    filling: Filling = Filling()
    filling_of: dict[str, Filling] = Field(default_factory=dict)
    masks: tuple[MaskedSpan, ...] = ()
    occasions: tuple[OccasionSpan, ...] = ()
    holidays: tuple[PublicHolidays, ...] = ()
