"""Shapes of what contenders learned."""

from pydantic import BaseModel, Field

from proteron.api.shapes import Index, Numbers, Place


class FactsQuery(BaseModel):
    contender: str
    fold: Index | None = Field(None)
    origin: Index | None = Field(None, description="Instead of a fold: the one that had learned by then.")
    series: Index = Field(0)


class CalibrationQuery(BaseModel):
    contender: str


class CalibrationView(BaseModel):
    """How often ranges held the truth, and how wide they are; `density` is 1 everywhere of a perfect forecast."""

    levels: list[float]
    covered: Numbers = Field(description="Share of truths inside, by level. 0 … 1.")
    by_step: list[Numbers] = Field(description="The same by level and step ahead.")
    widths: Numbers = Field(description="Mean width by level, in the unit of the series.")
    edges: list[float] = Field(description="Shares that the ends of all ranges are to have below them.")
    density: Numbers = Field(description="How often truths fell between two ends, against how often they should.")
    points: int


class TriedView(BaseModel):
    """One model of a search, with its criterion or the reason it was turned down."""

    label: str
    criterion: float | None
    reason: str


class PictureCurve(BaseModel):
    label: str
    x: list[float]
    y: Numbers
    kind: str


class PictureMark(BaseModel):
    x: float
    label: str


class PictureView(BaseModel):
    """Something learned, drawn: lines or clouds over a common x."""

    title: str
    x_label: str
    curves: list[PictureCurve]
    marks: list[PictureMark]
    names: list[str] = Field(description="Instead of places along: what the values are of.")


class CheckView(BaseModel):
    """One property that residuals should have, and what the test of it says."""

    what: str
    holds: bool
    p_value: float | None
    verdict: str


class CoefficientView(BaseModel):
    """One learned number with its doubt: standard error, t, p, inflation of its variance; null where undefined."""

    name: str
    estimate: float | None
    error: float | None
    t: float | None
    p: float | None
    inflation: float | None


class OneStepView(BaseModel):
    """Root mean square errors one step ahead inside what was learned and after it, and of the last value after it."""

    inside: float | None
    after: float | None
    last_value: float | None
    flat_inside: float | None = Field(description="As inside, behind the chain in its units.")
    flat_after: float | None = Field(description="As after, behind the chain in its units.")
    points_inside: int
    points_after: int


class SuitedQuery(BaseModel):
    series: Index = Field(0)
    until: Place | None = None


class SuitedView(BaseModel):
    """Reasons by kind; a kind that is not there may be tried. What cannot follow a trend needs a chain if `moved`."""

    reasons: dict[str, str]
    moved: float | None = Field(
        description="By how much the level moves over what is known, in the unit of the data; null: not surely."
    )


class LayerView(BaseModel):
    """A layer of a network, with what every of its steps sees on the time axis."""

    title: str
    steps: Place
    channels: Place
    weights: Place
    lags: list[list[int] | None]
    beside: bool


class FactsView(BaseModel):
    fold: Place
    summary: str
    safeguards: str
    seconds: float = Field(description="That passed while it was computed.")
    cpu_seconds: float = Field(description="Of the processor's time.")
    series: Place
    memory: int | None
    bytes: int
    coefficients: list[CoefficientView]
    criteria: dict[str, float | None]
    one_step: OneStepView
    tried: list[TriedView]
    pictures: list[PictureView]
    checks: list[CheckView]
    checks_after: list[CheckView]
    loss: list[float | None]
    validation_loss: list[float | None]
    other_losses: list[list[float | None]]
    kept_epoch: int | None
    layers: list[LayerView]
    graph: bool
    windows: int | None
    stages: list[str]
