"""Shapes of searches: what is asked, and how far they are."""

from pydantic import BaseModel, Field

from proteron.api.shapes import Body, Place
from proteron.core.experiment import ContenderEntry
from proteron.core.search import Family, SearchSettings


class SpaceView(BaseModel):
    """Families that suit the data, in the order in which they are tried."""

    families: list[Family]


class TakeBody(Body):
    """Candidates that came to the end, or the blend, by name."""

    names: list[str] = Field(min_length=1, max_length=50)


class SearchBody(SearchSettings):
    """A budget, and a space where the one that is proposed will not do; with more budget a search goes on."""


class RungView(BaseModel):
    """How much candidates are tried on: so many of the last folds, of some series or of all, of so many points."""

    folds: Place
    series: int | None
    points: int | None


class CandidateMarkView(BaseModel):
    """When a candidate was judged on a rung, and how it erred there."""

    at: float
    fits: int
    rung: Place
    error: float | None


class CandidateView(BaseModel):
    """One candidate: where it is in the race, and its way there."""

    name: str
    family: str
    state: str
    error: float | None
    folds: int
    fits: int
    seconds: float
    reason: str
    weight: float | None
    entered: bool
    document: ContenderEntry
    course: list[CandidateMarkView]


class LuckView(BaseModel):
    """What the best of as many worthless candidates would have shown."""

    tries: int
    expected: float
    high: float
    p_white: float
    p_hansen: float


class MovedView(BaseModel):
    """How much of the variance of errors goes with a setting."""

    setting: str
    share: float
    tries: int


class SeriesWeightsView(BaseModel):
    """A blend's weights for one series, in the order of its members."""

    key: str
    weights: list[float]


class SearchView(BaseModel):
    """How far a search is, and what it has found."""

    settings: SearchSettings
    state: str
    spent: float
    fits: int
    baseline: str
    rungs: list[RungView]
    candidates: list[CandidateView]
    best: str | None
    best_error: float | None
    blend: str | None
    members: list[str]
    weights: list[SeriesWeightsView]
    luck: LuckView | None
    moved: list[MovedView]
    text: str
