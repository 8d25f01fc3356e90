"""What is asked of outlooks, and what they answer."""

from typing import Annotated

from pydantic import BaseModel, Field

from proteron.api.shapes import Body, Index, Numbers, OutlookBrief, Place
from proteron.core.outlook import MOST_PATHS, MOST_STEPS, Ahead, RangesBy, Scenario
from proteron.core.outlook.totals import How

Level = Annotated[float, Field(gt=0, lt=1)]
Finite = Annotated[float, Field(allow_inf_nan=False)]


class NewOutlook(Body):
    contender: str
    horizon: int | None = Field(None, ge=1, le=MOST_STEPS, description="Steps; empty: as many as were judged.")
    until: int | None = Field(None, ge=1, le=2**53, description="Known points; empty: all.")
    to: str | None = Field(None, max_length=40, description="A local time or day, in the place of steps.")
    ahead: Ahead = Field("given", description="How columns known ahead go on where they end too early.")
    levels: list[Level] | None = Field(None, max_length=9, description="Of the ranges; empty: those judged.")
    ranges: RangesBy = Field(
        "errors", description="Of errors out of sample, adapted to how such ranges held, or as the forecaster states."
    )
    floor: Finite | None = Field(None, description="The quantity is never below.")
    ceiling: Finite | None = Field(None, description="The quantity is never above.")
    whole: bool = Field(False, description="The quantity comes in whole numbers.")
    paths: int = Field(1000, ge=1, le=MOST_PATHS, description="Joint futures that are drawn.")
    joint: bool = Field(True, description="Errors of several series go together as they did.")
    seed: int | None = Field(None, ge=0, lt=2**53, description="Of the draws; empty: the experiment's.")


class OutlookQuery(BaseModel):
    series: Index = Field(0)


class OutlookView(OutlookBrief):
    origin: Place | None = None
    times: list[float] = []
    mean: Numbers = []
    truth: Numbers = Field([], description="What came, where that is in the data.")
    levels: list[float] = []
    lower: list[Numbers] = []
    upper: list[Numbers] = []
    held: Numbers = Field([], description="By level, the share of later values that ranges of earlier errors held.")
    held_of: int = Field(0, description="Of how many values.")
    how: str = Field("", description="What ranges are made of: walk-forward, rehearsals, theory.")
    notes: list[str] = []
    paths: int = Field(0, description="How many were drawn; 0: it was made before they were kept.")
    errors: int = 0
    seed: int | None = Field(None, description="Of the draws; empty: it was made before it was kept.")
    scenario: str | None = Field(None, description="The scenario that it stands for; empty: none.")
    of: int | None = Field(None, description="The outlook whose scenario it is.")
    newer: int | None = Field(None, description="The newest version of its data, where that is newer than its own.")
    widened: bool = Field(False, description="Whether errors are too few to tell the ends of the widest range.")


class ChanceQuery(OutlookQuery):
    above: Finite | None = Field(None, description="A level, in original units.")
    below: Finite | None = Field(None, description="A level, in original units.")
    run: int = Field(1, ge=1, le=MOST_STEPS, description="Steps in a row.")


class ChanceView(BaseModel):
    each: Numbers = Field(description="At each step.")
    ever: Numbers = Field(description="At each step or before.")
    run: Numbers = Field(description="That so many steps in a row have been by then.")
    paths: int = Field(description="Of how many paths these are shares.")
    peak: Numbers = Field(description="That each step is the highest of all.")


class PathsQuery(OutlookQuery):
    count: int = Field(40, ge=1, le=MOST_PATHS, description="How many at most.")


class PathsView(BaseModel):
    paths: list[Numbers]


class TotalsQuery(Body):
    series: Index | None = Field(None, description="One series; empty: all, or the groups.")
    by: str | None = Field(None, max_length=40, description="A step such as “1 day”; empty: all steps at once.")
    how: How = "sum"
    groups: dict[str, list[str]] | None = Field(None, description="Keys of series that are summed, by name.")
    joint: bool = Field(True, description="Errors belong together as they did; or else as if none did.")


class TotalsView(BaseModel):
    groups: list[str]
    starts: list[float] = Field(description="Seconds since 1970 at which each span begins.")
    mean: list[Numbers]
    levels: list[float]
    lower: list[list[Numbers]]
    upper: list[list[Numbers]]
    forecast: list[int] = Field(description="Points of each span that are forecast.")
    known: list[list[int]] = Field(description="Points that had come, by group and span.")
    whole: list[list[bool]] = Field(description="Whether the two are all that the span has.")


class WordsQuery(OutlookQuery):
    step: Index = Field(0, description="Which step ahead, from 0.")
    level: Level | None = Field(None, description="Of the range; empty: the widest.")
    above: Finite | None = Field(None, description="The level whose chance is told.")
    unit: str = Field("", max_length=40)


class RefitBody(Body):
    pass


class RedrawBody(Body):
    seed: int = Field(ge=0, lt=2**53)


class PartsView(BaseModel):
    names: list[str]
    parts: list[Numbers] = Field(description="By name, at each step; they add up to the mean.")
    errors: list[Numbers | None] = Field(description="Standard errors by name; null where none are known.")


class LackView(BaseModel):
    column: str
    steps: int = Field(description="How many steps ahead are known, in the series that goes furthest.")
    needed: int = Field(description="How many are read.")
    last: str = Field(description="The last local time that is known.")
    series: int = Field(description="How many series lack something.")


class LacksView(BaseModel):
    lacks: list[LackView] = Field(description="Columns that end too early; nothing where none does.")


class ScenarioView(BaseModel):
    id: int
    scenario: Scenario = Field(description="What it takes to come otherwise than given.")


class ScenariosView(BaseModel):
    scenarios: list[ScenarioView] = Field(description="Of the outlook, the oldest first.")


class AheadColumn(BaseModel):
    name: str
    read: bool = Field(description="Whether the forecast depends on it.")
    labels: list[str]
    times: list[float] = Field(description="Of the past that is shown, and of the steps ahead.")
    past: Numbers = Field(description="What was known of it, up to the last point.")
    given: Numbers = Field(description="What is known ahead, at each step.")
    filled: Numbers = Field(description="The same, as it goes on where it ends too early.")
    edited: Numbers = Field(description="The same, as the scenario has it.")


class AheadView(BaseModel):
    columns: list[AheadColumn]
    occasions: list[str] = Field(description="Names of occasions that lie ahead.")


class OutlookWords(BaseModel):
    sentence: str
    paragraph: str
