"""Shapes of the Windows room: plans, slices of the table, columns, what was left out."""

from functools import cached_property
from typing import Any, Self

from pydantic import BaseModel, Field, model_validator

from proteron.api.shapes import Body, Document, Index, Numbers, Place, StageList
from proteron.core.windows import WindowPlan


class PlanBody(Body):
    """A window plan, as in a project's choices, and a chain; both are checked when they are made."""

    plan: Document
    chain: StageList = []

    @cached_property
    def window_plan(self) -> WindowPlan:
        """Raises `SettingsError` naming what is wrong with the plan."""
        return WindowPlan.parse(self.plan)


class TableBody(PlanBody):
    """Which table: of one series or all, with the chain as fitted at `until`."""

    until: Place | None = None
    series: Place | None = None


class Sorting(Body):
    column: str
    descending: bool = False


class Between(Body):
    """Rows whose cell lies between two bounds; missing cells never do."""

    column: str
    low: float | None = None
    high: float | None = None


class WindowsBody(TableBody):
    """A slice of the table, sorted and filtered: from `offset`, or without one the page that holds `find`.

    `span` (series, first, last position) asks for values there.
    """

    offset: Index | None = Field(0)
    limit: int = Field(100, ge=0, le=2000)
    find: Place | None = None
    sort: Sorting | None = None
    where: list[Between] = Field([], max_length=20)
    span: tuple[int, int, int] | None = None


class TakeBody(TableBody):
    """What to take away; `shares` adds a column with the chronological part of each row."""

    shares: list[float] | None = Field(None, min_length=3, max_length=3)


class ColumnFactsBody(TableBody):
    target: Index = Field(0)


class LeftOutBody(TableBody):
    reason: str | None = None
    offset: Index = Field(0)
    limit: int = Field(100, ge=0, le=2000)


class SourceView(BaseModel):
    """Where a column comes from: first and last step it reads, relative to the origin; `whole` is from the start."""

    name: str
    kind: str
    first: int
    last: int
    whole: bool


class PlanTextBody(Body):
    """A plan as text or as data; with a dataset it is also checked against that."""

    text: str | None = Field(None, max_length=20_000)
    plan: Document | None = None
    dataset_id: int | None = None

    @model_validator(mode="after")
    def _one_of_both(self) -> Self:
        if (self.text is None) == (self.plan is None):
            raise ValueError("give the plan as text or as data")
        return self


class PlanTextView(BaseModel):
    """A plan and its text, which always agree, and the words a text is made of."""

    plan: Document
    text: str
    words: list[str]


class WindowsView(BaseModel):
    text: str
    total: int
    names: list[str]
    target_names: list[str]
    sources: list[SourceView]
    look_back: int
    dropped: dict[str, int]
    offset: Place
    positions: list[int]
    times: list[float]
    series: list[int]
    rows: list[Numbers]
    found: int | None
    span_start: int
    span_values: Numbers


class ColumnFactView(BaseModel):
    """One column: its distribution, missing share, link with the target, and the column most like it."""

    name: str
    counts: list[int]
    low: float | None
    high: float | None
    missing: float
    correlation: float | None
    information: float | None
    nearest: str | None
    likeness: float | None


class ColumnFactsView(BaseModel):
    rows: int
    looked_at: int
    target: str
    columns: list[ColumnFactView]


class LeftOutView(BaseModel):
    """Rows left out, one reason each; `counts` by reason and series, over all that were asked for."""

    total: int
    reasons: list[str]
    keys: list[str]
    counts: list[list[int]]
    offset: Place
    positions: list[int]
    times: list[float]
    series: list[int]
    why: list[str]


class PlanPresetView(BaseModel):
    title: str
    reason: str
    text: str
    plan: Document


class PlanPresetsBody(Body):
    series: Place = 0
    until: Place | None = None
    horizon: list[int] = Field([1], min_length=1, max_length=2000)


class PlanPresetsView(BaseModel):
    presets: list[PlanPresetView]


class SavedPlan(BaseModel):
    id: int
    revision: int
    name: str
    text: str = Field(description="The plan in its notation.")
    plan: Document


class SavedPlans(BaseModel):
    saved: list[SavedPlan]


class SavePlanBody(Body):
    name: str = Field(min_length=1, max_length=120)
    plan: WindowPlan


class LeakBody(PlanBody):
    origins: int = Field(12, ge=1, le=200)
    seed: int = Field(0, ge=0, le=2**53)


class LeakView(BaseModel):
    passed: bool
    evidence: dict[str, Any]
