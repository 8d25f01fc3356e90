"""Shapes of the Flatten room."""

from typing import Literal

from pydantic import BaseModel, Field

from proteron.api.profile_shapes import TestView
from proteron.api.shapes import Body, Document, Identifier, Line, Numbers, Place, StageList


class FittedPath(BaseModel):
    fitted_id: Identifier


class AppliedPath(BaseModel):
    dataset_id: Identifier
    fitted_id: Identifier


class FlattenBody(Body):
    """A chain as of a cutoff, over a span; `units` of the parts, `twin` the stage to compare plain and robust."""

    chain: StageList
    until: Place
    start: Place | None = None
    stop: Place | None = None
    width: int = Field(1200, ge=10, le=8000)
    units: Literal["flat", "original"] = "flat"
    twin: Place | None = Field(None, description="Place of the stage whose plain or robust twin is drawn too.")


class PartView(BaseModel):
    name: str
    line: Line


class FigureView(BaseModel):
    title: str
    kind: Literal["bars", "curve"]
    labels: list[str]
    values: Numbers


class StageView(BaseModel):
    """A stage's lane and what it learned; `parts` are what it takes out, projected beyond the cutoff."""

    place: int
    kind: str
    title: str
    group: str
    output: Line
    parts: list[PartView]
    twin: list[PartView]
    twin_name: str | None
    facts: dict[str, float]
    figures: list[FigureView]
    notes: list[str]
    variance_share: float | None


class FlattenView(BaseModel):
    """All lanes of a chain; `projection` is what the chain alone says beyond the cutoff, with its range."""

    observed: Line
    stages: list[StageView]
    projection: Line
    projection_low: Numbers
    projection_high: Numbers
    round_trip: float | None


class StageTests(BaseModel):
    place: int
    tests: list[TestView]
    verdict: str


class FlatFactsView(BaseModel):
    """Tests before the chain and after every stage; correlograms and block spreads before and after it."""

    before: StageTests
    stages: list[StageTests]
    acf_before: Numbers
    acf_after: Numbers
    bound: float
    block: int
    spreads_before: Numbers
    spreads_after: Numbers


class PresetView(BaseModel):
    name: str
    why: str
    stages: list[Document]


class SavedChain(BaseModel):
    id: int
    revision: int
    name: str
    stages: list[Document]


class ChainsView(BaseModel):
    presets: list[PresetView]
    saved: list[SavedChain]


class PresetQuery(BaseModel):
    until: Place | None = None


class SaveChainBody(Body):
    name: str = Field(min_length=1, max_length=120)
    stages: StageList


class FitBody(Body):
    name: str = Field("", max_length=120)
    chain: StageList
    until: Place


class FittedBrief(BaseModel):
    id: int
    dataset_id: int
    name: str
    chain: str
    hash: str
    until: Place
    stages: int
    series: Place
    created: str


class FittedList(BaseModel):
    fitted: list[FittedBrief]


class ImportBody(Body):
    """A fitted chain as it was exported."""

    document: Document
