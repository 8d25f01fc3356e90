"""Shapes of the Profile room."""

from pydantic import BaseModel, Field

from proteron.api.shapes import Body, Document, Identifier, Line, Numbers, Place, StageList


class FeaturesPath(BaseModel):
    dataset_id: Identifier


class ProfileBody(Body):
    """A series as of a cutoff; with a chain, its flattened values."""

    until: Place | None = None
    chain: StageList = []


class LevelBody(ProfileBody):
    window: int | None = Field(None, ge=2, le=1_000_000, description="Points; nothing: one longer season.")
    start: Place | None = None
    stop: Place | None = None


class CyclesBody(ProfileBody):
    period: int | None = Field(None, ge=2, le=100_000, description="Steps in a cycle; nothing: the shortest season.")


class ShapeBody(ProfileBody):
    lags: list[Place] = Field([], max_length=6, description="Lags of the lag plots; nothing: 1 and the seasons.")


class OverlayBody(ProfileBody):
    """What to lay over the series: another series by its number, or a column by its name."""

    series: Place | None = None
    column: str | None = None
    standardised: bool = False
    start: Place | None = None
    stop: Place | None = None
    width: int = Field(1200, ge=10, le=8000)


class BreakBody(ProfileBody):
    at: Place = Field(description="Grid position of the first point after the break.")


class TestView(BaseModel):
    name: str
    statistic: float | None
    p_value: float | None
    lags: int
    null: str
    verdict: str
    critical: dict[str, float] = {}


class SuggestionView(BaseModel):
    """A stage worth adding, and why."""

    why: str
    title: str
    stage: Document


class SeasonStrength(BaseModel):
    period: int
    name: str
    strength: float


class ProfileView(BaseModel):
    """Facts, tests, verdict and suggestions."""

    known: int
    missing: int
    filled: int
    zeros: float | None
    mean: float | None
    spread: float | None
    lowest: float | None
    highest: float | None
    trend: float | None
    seasons: list[SeasonStrength]
    entropy: float | None
    demand: str
    tests: list[TestView]
    refused: dict[str, str]
    verdict: str
    tested: int
    suggestions: list[SuggestionView]


class LevelView(BaseModel):
    """Rolling mean with one rolling standard deviation on either side, and the line of values."""

    window: int
    observed: Line
    level: Line
    low: Numbers
    high: Numbers


class SlotBars(BaseModel):
    """Mean and middle half of the values in each calendar slot."""

    field: str
    labels: list[str]
    mean: Numbers
    low: Numbers
    high: Numbers


class CycleLine(BaseModel):
    label: str
    values: Numbers


class CyclesView(BaseModel):
    """One line per cycle, laid over each other by phase; `cut` cycles before the first were left out."""

    period: int
    name: str
    choices: dict[str, int]
    phases: list[str]
    lines: list[CycleLine]
    cut: int
    slots: list[SlotBars]


class PeriodView(BaseModel):
    period: float
    name: str
    share: float
    correlation: float


class MemoryView(BaseModel):
    """Correlograms with their bounds, and the periodogram with the periods it suggests."""

    acf: Numbers
    pacf: Numbers
    bound: float
    bartlett: Numbers
    season: int
    known: int
    spectrum_period: list[float]
    spectrum_power: list[float]
    candidates: list[PeriodView]


class LagPlot(BaseModel):
    lag: Place
    earlier: list[float]
    later: list[float]
    correlation: float | None


class ShapeView(BaseModel):
    """Distribution, quantiles against the normal's, spread against level, lag plots."""

    edges: list[float]
    counts: list[int]
    normal: list[float]
    quantiles_normal: list[float]
    quantiles: list[float]
    block: int
    level: list[float]
    spread: list[float]
    slope: float | None
    verdict: str
    exponent: float | None
    lag_plots: list[LagPlot]


class LinkView(BaseModel):
    """A column's pre-whitened correlation with the target; a positive lag means that the column leads."""

    name: str
    role: str
    lags: list[int]
    correlations: Numbers
    best_lag: int
    best: float
    bound: float
    found: bool
    group: int


class ColumnsView(BaseModel):
    links: list[LinkView]
    others: list[str]


class OverlayView(BaseModel):
    label: str
    line: Line
    correlation: float | None


class FeatureRow(BaseModel):
    """One series of a panel in numbers; null where a number is undefined."""

    position: Place
    key: str
    spark: Numbers
    points: int
    first: float
    last_time: float
    known: int
    missing: int
    zeros: float | None
    mean: float | None
    spread: float | None
    last: float | None
    trend: float | None
    seasons: dict[str, float]
    entropy: float | None
    autocorrelation: float | None
    lumpiness: float | None
    level_shift: float | None
    variance_shift: float | None
    breaks: int
    periods: list[float]
    transform: str
    exponent: float | None
    demand: str
    p_values: dict[str, float | None]
    verdict: str


class FeaturesView(BaseModel):
    """The features of a panel as of `until`; partial while they are computed."""

    state: str
    until: Place
    done: int
    of: int
    reason: str | None
    rows: list[FeatureRow]


class FeaturesBody(Body):
    until: int = Field(ge=1, le=2**53)


class FeaturesQuery(BaseModel):
    until: Place | None = None
