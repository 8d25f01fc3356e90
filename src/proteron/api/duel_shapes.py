"""Shapes of a duel of two entrants."""

from pydantic import BaseModel, Field

from proteron.api.shapes import BoardQuery, Index, MetricView


class DuelQuery(BoardQuery):
    one: str
    other: str
    series: Index = Field(0, description="Whose savings are told beside those of all.")


class DifferenceView(BaseModel):
    """Of differences of losses from origin to origin: positive where the first lost more; none where too few."""

    observations: int
    mean: float | None
    statistic: float | None
    p_value: float | None
    degrees: int | None
    textbook: float | None
    textbook_p_value: float | None


class StepView(BaseModel):
    """The same at one step ahead alone."""

    ahead: int
    test: DifferenceView


class SavingsView(BaseModel):
    """The share of the other's whole loss that the one had saved by a time."""

    times: list[float]
    shares: list[float]


class PairView(BaseModel):
    """Errors of both where they are told apart by something."""

    label: str
    one: float | None
    other: float | None


class DuelView(BaseModel):
    one: str
    other: str
    metric: MetricView
    skill: float | None
    skill_low: float | None
    skill_high: float | None
    resampled: str
    sentence: str
    test: DifferenceView
    steps: list[StepView]
    by_series: list[PairView]
    by_slot: list[PairView]
    savings: SavingsView
    savings_here: SavingsView
