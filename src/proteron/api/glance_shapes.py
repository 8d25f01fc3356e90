"""Shapes of evidence at a glance: errors by view, errors in time, criteria side by side."""

from pydantic import BaseModel, Field

from proteron.api.shapes import BoardQuery, Index, MetricView, Numbers, Place
from proteron.core.judge import View


class BreakdownQuery(BoardQuery):
    by: View = Field("fold", description="By fold, step ahead, series, or a slot of the calendar.")


class BreakdownView(BaseModel):
    """Rows are entrants, columns labels; skill is empty where the metric tells none."""

    metric: MetricView
    names: list[str]
    labels: list[str]
    errors: list[Numbers]
    skill: list[Numbers]


class ErrorsQuery(BaseModel):
    series: Index = 0
    ahead: int | None = Field(None, ge=1, description="Steps ahead; empty: of the forecast made last before each time.")


class ErrorsView(BaseModel):
    """Forecast minus truth of one series, by time."""

    contender: str
    times: list[float]
    ahead: list[int]
    errors: list[float]


class ErrorsInTimeView(BaseModel):
    entrants: list[ErrorsView]


class CriteriaQuery(BaseModel):
    fold: Index = 0
    series: Index = 0


class RankedView(BaseModel):
    """Criteria of one entrant; only those of one `group` compare."""

    contender: str
    group: str
    criteria: dict[str, float]
    error: float | None
    rank: Place | None
    rank_after: Place | None


class CriteriaView(BaseModel):
    metric: MetricView
    entrants: list[RankedView]


class SignsQuery(BaseModel):
    contender: str


class SignsView(BaseModel):
    """By what was forecast (up, down), how often the truth went up and down."""

    changes: dict[str, dict[str, int]] = Field(description="Of changes against the last known.")
    values: dict[str, dict[str, int]] = Field(description="Of values: above and below zero.")
