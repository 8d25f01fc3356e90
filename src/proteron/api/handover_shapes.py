"""What is asked of outlooks that are handed over, and what is told of how they fared."""

from pydantic import BaseModel, Field

from proteron.api.shapes import Body, Numbers, OutlookBrief
from proteron.core.outlook import MOST_STEPS, Ahead
from proteron.core.outlook.fared import Verdict
from proteron.core.table_files import FORMATS
from proteron.records.written_tables import Way
from proteron.services.outlooks.handover import Form

_MOST_POINTS = 100_000


class TableFileQuery(BaseModel):
    format: str | None = Field(
        None, pattern=f"^({'|'.join(FORMATS)})$", description="csv, json, parquet, arrow or xlsx; empty: by Accept."
    )
    form: Form = Field("long", description="A row per series and time, or per time.")


class AboutView(BaseModel):
    outlook: int = Field(description="Its number.")
    contender: str
    experiment: int = Field(description="The number of the experiment that judged its contender.")
    issued: str = Field(description="When it was made, UTC.")
    dataset: str = Field(description="SHA-256 of the version of the data that it was made from.")
    known_until: str = Field(description="The last time of which anything was known, UTC.")
    zone: str
    step: str
    unit: str
    horizon: int
    levels: list[float]
    ranges: str = Field(description="What ranges are made of: walk-forward, rehearsals, theory.")
    held: dict[str, float | None] = Field(description="By level, how often such ranges of earlier errors held.")
    seed: int | None
    paths: int
    joint: bool
    scenario: str | None = Field(description="Under which assumptions; null: none but what was given.")
    notes: list[str]


class WriteBody(Body):
    connection: str = Field(min_length=1, max_length=100, description="A database of the server's configuration.")
    table: str = Field(min_length=1, max_length=200, description="Its name; made where it is not there.")
    schema_name: str = Field("public", min_length=1, max_length=200, description="Of the database.")
    way: Way = Field("create", description="Make the table, replace what is in it, or append.")


class WrittenView(BaseModel):
    rows: int
    table: str = Field(description="Its name.")
    view: str = Field(description="A view of the newest forecast of every series and time.")


class RecentBody(Body):
    times: list[str | float] = Field(
        min_length=1, max_length=_MOST_POINTS, description="ISO texts, local without an offset, or seconds since 1970."
    )
    values: list[float | None] = Field(max_length=_MOST_POINTS)
    columns: dict[str, list[float | None]] = Field({}, description="Columns beside the values, by name.")


class DemandBody(Body):
    series: dict[str, RecentBody] = Field(min_length=1, description="Recent points by key; they may overlap.")
    horizon: int | None = Field(None, ge=1, le=MOST_STEPS, description="Steps; empty: as many as were learned for.")
    ahead: Ahead = Field("given", description="How columns known ahead go on where they end too early.")


class DemandSeries(BaseModel):
    mean: Numbers
    lower: dict[str, Numbers] = Field(description="By level.")
    upper: dict[str, Numbers] = Field(description="By level.")


class DemandView(BaseModel):
    times: list[str] = Field(description="UTC.")
    series: dict[str, DemandSeries]
    notes: list[str]


class _Held(BaseModel):
    verdict: Verdict = "nothing came"
    sentence: str = ""
    version: int | None = Field(None, description="The version of the data that brought the truth.")
    newer: bool = Field(False, description="Whether that is newer than the one it was made from.")
    known: int = Field(0, description="Steps of which the truth has come.")
    error: Numbers = Field([], description="Mean size of the error at each step.")
    promised: Numbers = Field([], description="Mean size of the error at each step in its own paths.")
    ratio: float | None = Field(None, description="Mean error over what was promised.")
    levels: list[float] = []
    held: list[float | None] = Field([], description="By level, the share of truths in the range.")
    of: int = Field(0, description="Of how many values.")
    drifted: list[str] = Field([], description="Keys of series whose errors have drifted.")


class HeldView(_Held):
    pass


class FaredView(OutlookBrief, _Held):
    horizon: int = Field(0, description="How many steps ahead it goes; 0: it is not made yet.")
    issued: str = Field("", description="When it was made, ISO 8601.")


class OutlooksView(BaseModel):
    outlooks: list[FaredView]
