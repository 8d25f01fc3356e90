"""Shapes of requests and answers: the source of the OpenAPI document and of the front end's types."""

from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, RootModel

from proteron.core.anomalies import Mode
from proteron.core.experiment import Judging
from proteron.core.flatten.registry import AnyStage
from proteron.core.intake import EXPORTS, Edit, Recipe
from proteron.core.intake.recipe import OccasionSpan
from proteron.core.judge import Weighting, metric_of
from proteron.core.search import SearchSettings
from proteron.core.windows import WindowPlan

Numbers = list[float | None]
Document = dict[str, Any]
# Stages as in a project's choices. They are checked when the chain is made: two dozen schemas in every body that
# has a chain would cost each start a second.
StageList = Annotated[list[Document], Field(max_length=40)]


# What both PostgreSQL and JavaScript can hold.
Identifier = Annotated[int, Field(ge=0, lt=2**53)]
Index = Annotated[int, Field(ge=0, le=2**53)]  # of a series, a fold, a target, from 0
Place = Annotated[int, Field(ge=-(2**53), le=2**53)]  # on a grid, in a table, of a fold; negative: before the first


class Body(BaseModel):
    """A request body: unknown fields are an error."""

    model_config = ConfigDict(extra="forbid")


class Problem(BaseModel):
    """RFC 9457 problem document."""

    type: str
    title: str
    status: int
    detail: str
    field: str | None = None
    changed: dict[str, Any] | None = Field(
        None, description="With 412: what differs from what the sender knew, with what each field holds now."
    )


class Health(BaseModel):
    status: str
    version: str
    database: str


class ProjectPath(BaseModel):
    project_id: Identifier


class DatasetPath(BaseModel):
    dataset_id: Identifier


class SeriesPath(BaseModel):
    dataset_id: Identifier
    series: Index


class UploadPath(BaseModel):
    upload_id: str = Field(pattern=r"^[0-9a-f]{32}$")


class ExperimentPath(BaseModel):
    experiment_id: Identifier


class ChainPath(BaseModel):
    chain_id: Identifier


class PlanPath(BaseModel):
    plan_id: Identifier


class IfMatch(BaseModel):
    """What a change is made to: the ETag of the answer it was seen in."""

    if_match: str | None = Field(
        None, alias="If-Match", max_length=200,
        description="The ETag that is known; 412 with what has changed since where it is not the present one.",
    )  # fmt: skip


class NameBody(Body):
    name: str = Field(min_length=1, max_length=200, description="The new name; blanks around it are taken off.")


class CopyBody(Body):
    name: str | None = Field(None, min_length=1, max_length=200, description="Empty: its own with “copy” behind it.")
    project_id: Identifier | None = Field(
        None, description="Datasets, chains and plans: the project to copy into; empty: its own."
    )


class KeptView(BaseModel):
    """Something with a name, and whether it is deleted."""

    kind: str = Field(description="projects, datasets, experiments, chains or plans.")
    id: int
    project_id: int = Field(description="The project it lies in; of a project its own number.")
    name: str
    revision: int = Field(description="How often it was changed, from 1.")
    deleted: str | None = Field(description="When it was deleted, ISO 8601; null: it is not.")
    until: str | None = Field(description="Until when it can be restored, ISO 8601; null: it is not deleted.")


class KeptList(BaseModel):
    kept: list[KeptView]


class OutlookPath(BaseModel):
    outlook_id: Identifier


class SpanQuery(BaseModel):
    """A span of grid positions and how many pixel columns it is drawn in."""

    start: Place | None = None
    stop: Place | None = None
    width: int = Field(1200, ge=10, le=8000)


class Line(BaseModel):
    """A series as the screen can show it: every value, or lowest and highest per pixel column."""

    times: list[float]
    values: Numbers
    exact: bool
    filled: list[int] = Field(default_factory=list, description="Places of filled values, where all are there.")


class ExperimentBrief(BaseModel):
    id: int
    revision: int
    dataset_id: int
    name: str
    state: str
    reason: str | None
    cells: int
    done: int
    failed: int


class DatasetBrief(BaseModel):
    id: int
    revision: int
    version: int
    parent_id: int | None
    series: Place
    points: int
    done: str
    name: str
    hash: str
    created: str


class OutlookBrief(BaseModel):
    id: int
    experiment_id: int
    dataset_id: int
    contender: str
    state: str
    share: float = Field(description="How far it is while it is being made. 0 … 1.")
    reason: str | None


class ScanBrief(BaseModel):
    id: int
    dataset_id: int
    mode: Mode
    using: str
    contender: str | None
    delay: int
    until: Place | None
    state: str
    reason: str | None
    done: int
    series: int
    created: str


class Choices(Body):
    """What the rooms of a project stand on; null takes a choice back."""

    dataset_id: Identifier | None = None
    experiment_id: Identifier | None = None
    scan_id: Identifier | None = None
    outlook_id: Identifier | None = None
    chain: list[AnyStage] | None = None
    plan: WindowPlan | None = None


class RoomState(BaseModel):
    """A room's mark: empty, current or outdated, and why."""

    state: Literal["empty", "current", "outdated"]
    reason: str = ""


class RunningView(BaseModel):
    """Long work that goes on in a project: of what kind, and how many of its parts are there."""

    kind: str
    id: int
    title: str
    done: int
    of: int


class Project(BaseModel):
    id: int
    revision: int
    name: str
    choices: Document
    datasets: list[DatasetBrief]
    experiments: list[ExperimentBrief]
    outlooks: list[OutlookBrief]
    scans: list[ScanBrief]
    running: list[RunningView]
    rooms: dict[str, RoomState]


class ProjectName(BaseModel):
    id: int
    revision: int
    name: str


class ProjectList(BaseModel):
    projects: list[ProjectName]
    deleted: list[KeptView] = Field(description="Projects that can be restored, the last deleted first.")


class NewProject(Body):
    name: str = Field(min_length=1, max_length=200)


class Uploaded(BaseModel):
    upload_id: str
    name: str
    bytes: int


class UploadQuery(BaseModel):
    name: str = Field("pasted.csv", max_length=200)


class UploadId(RootModel[str]):
    root: str = Field(pattern=r"^[0-9a-f]{32}$")


class Reading(Body):
    """How uploads are to be read; what the recipe does not say is guessed. `account` is that of a delivery before."""

    recipe: Recipe = Recipe()
    more: list[UploadId] = Field(default_factory=list, max_length=200, description="Further uploads, in order.")
    account: Document | None = None


class PreviewBody(Reading):
    project_id: Identifier | None = None
    series: str | None = Field(None, description="The series whose line is wanted; the first if not given.")
    start: Place | None = Field(None, description="First grid position of the line; empty: the whole series.")
    stop: Place | None = None


class NewDataset(Reading):
    project_id: Identifier
    name: str = Field(min_length=1, max_length=200)


class ColumnView(BaseModel):
    name: str
    role: str
    reason: str
    confidence: float
    given: bool
    type: str
    category: bool


class RemedyView(BaseModel):
    name: str
    label: str


class SpanView(BaseModel):
    key: str
    start: Place
    stop: Place


class FindingView(BaseModel):
    """What was found, and the remedy in force; `settled` is false while a choice is wanted."""

    id: str
    code: str
    severity: str
    rows: list[int]
    message: str
    count: int
    about: str
    proposed: str
    chosen: str
    settled: bool
    remedies: list[RemedyView]
    spans: list[SpanView]


class SeriesView(BaseModel):
    key: str
    filled: int
    last_value: float | None
    start: Place
    length: int
    missing: int
    first: float
    last: float
    lowest: float | None
    highest: float | None
    spark: Numbers


class Preview(BaseModel):
    """What uploads would become; `problem` says why they cannot become anything yet.

    `sample` holds the cells of rows `sample_rows` (from 0); row 0 is line `first_line` of the file, and every line
    became `per_line` rows.
    """

    rows: int
    format: str
    facts: Document
    columns: list[ColumnView]
    first_line: int
    per_line: int
    sample_rows: list[int]
    sample: list[list[str]]
    problem: Problem | None = None
    step: str | None = None
    zone: str
    findings: list[FindingView] = []
    series: list[SeriesView] = []
    series_count: int = 0
    line: Line | None = None
    line_key: str = ""
    differences: list[str] | None = None


class FetchBody(Body):
    connection: str = Field(max_length=200)
    query: str | None = Field(None, max_length=100_000)


class ConnectionView(BaseModel):
    name: str
    kind: Literal["sql", "http"]
    writes: bool = Field(False, description="Whether tables may be written there.")


class ConnectionList(BaseModel):
    connections: list[ConnectionView]


class CalendarView(BaseModel):
    occasions: list[OccasionSpan]


class EditBody(Body):
    """A change to a dataset that makes its next version."""

    edit: Edit
    name: str | None = Field(None, max_length=200)


class ComparePath(BaseModel):
    dataset_id: Identifier
    other_id: Identifier


class SeriesChangeView(BaseModel):
    key: str
    change: str
    changed: int
    first: int
    last: int


class ComparisonView(BaseModel):
    """How a dataset differs from another: per series, and in sentences."""

    sentences: list[str]
    series: list[SeriesChangeView]


class ExportQuery(BaseModel):
    format: str = Field("csv", json_schema_extra={"enum": list(EXPORTS)})


class MaskView(BaseModel):
    start: Place
    stop: Place
    reason: str
    learning: bool
    scoring: bool
    key: str | None


class OccasionView(BaseModel):
    name: str
    start: Place
    stop: Place


class Grid(BaseModel):
    """The time axis: `start` and `seconds` for even steps, all `times` (epoch seconds) for calendar steps."""

    start: float
    seconds: float | None
    times: list[float] | None
    end: int
    step: str
    zone: str
    seasons: list[float]


class DatasetColumn(BaseModel):
    """A covariate: what it is called, when it is known, and what its codes stand for."""

    name: str
    role: str
    labels: list[str] = Field(description="Texts that its numbers stand for; empty: numbers are numbers.")


class DatasetView(BaseModel):
    id: int
    name: str
    version: int
    hash: str
    unit: str
    grid: Grid
    columns: list[DatasetColumn]
    account: Document
    parent_id: int | None
    masks: list[MaskView]
    occasions: list[OccasionView]
    series: list[SeriesView]


class NewExperiment(Judging):
    """What is judged and how, on which data; `run` starts it at once."""

    dataset_id: Identifier
    name: str = Field("experiment", min_length=1, max_length=200)
    run: bool = True
    search: SearchSettings | None = Field(None, description="Has it search for more contenders, too.")


class ForecastsOfBody(Body):
    """Which version of the data brought forecasts are of."""

    dataset_id: Identifier


class BroughtView(BaseModel):
    """Forecasts made elsewhere as a contender, and what became of their rows."""

    contender: Document
    rows: int
    used: int = Field(description="How many rows forecast points of this data.")
    notes: list[str]


class FoldView(BaseModel):
    learn_start: int
    cutoff: int
    score_start: int
    score_stop: int


class ContenderView(BaseModel):
    name: str
    label: str
    family: str
    chain: str
    way: str
    document: Document


class FailureView(BaseModel):
    """Why there is no forecast: a cell that failed, or a series that was declined in it; folds from 0."""

    contender: str
    fold: Place
    reason: str
    series: str | None


class ExperimentView(ExperimentBrief):
    seed: int
    baseline: str
    metrics: list[str]
    levels: list[float]
    design: Document
    horizon: int
    gap: int
    folds: list[FoldView]
    sealed: list[FoldView] = Field(description="Folds that are computed only once their seal is broken.")
    contenders: list[ContenderView]
    failures: list[FailureView]
    seconds_left: float | None
    searches: bool = Field(description="Whether it has, or had, a search.")


class BoardQuery(BaseModel):
    metric: str | None = Field(None, description="What skill is told by; empty: the experiment's first.")
    weighting: Weighting = Field(
        "points", description="What counts alike: all scored points, all series, or series by the size of their truth."
    )


class MetricView(BaseModel):
    """A column of the board; smaller is better, unless `nominal` says what a good one comes to, or `larger` is."""

    name: str
    title: str
    unit: str
    nominal: float | None
    larger: bool
    tells_skill: bool
    formula: str
    source: str

    @classmethod
    def of(cls, name: str) -> "MetricView":
        """Of a metric that is there."""
        metric = metric_of(name)
        assert metric is not None, name
        return cls(**{field: getattr(metric, field) for field in cls.model_fields})


class ReasonView(BaseModel):
    """Why forecasts are missing: in which folds (from 0), and of which series; none: of all in a cell."""

    text: str
    folds: list[int]
    series: list[str]


class BehindView(BaseModel):
    """How many scored points stand behind a number, and how many folds and series they are from."""

    points: int
    folds: int
    series: int


class BoardRowView(BaseModel):
    """An entrant: errors by metric, skill over the baseline with its interval, and why anything is missing."""

    contender: str
    family: str
    baseline: bool
    cells: int
    failed: int
    errors: dict[str, float | None]
    flat_rmse: float | None
    skill: float | None
    skill_low: float | None
    skill_high: float | None
    skill_by_fold: Numbers
    skill_by_step: Numbers
    skill_by_series: Numbers
    best_in: int
    among_best: bool | None = Field(description="Whether it cannot be told apart from the best; none: not compared.")
    mean_rank: float | None = Field(description="Mean rank over series, or over folds of a single one.")
    coverage: float | None
    seconds: float = Field(description="That passed while its cells were computed.")
    cpu_seconds: float = Field(description="Of the processor's time.")
    behind: dict[str, BehindView] = Field(description="What stands behind each error, and behind “skill”.")
    reasons: list[ReasonView]


class RanksView(BaseModel):
    """Over how many series (or folds) entrants were ranked; mean ranks that far apart differ, at 95 %."""

    cases: int
    critical_difference: float
    statistic: float
    p_value: float


class BoardView(BaseModel):
    state: str
    cells: int
    done: int
    failed: int
    metrics: list[MetricView]
    skill_metric: str
    notes: list[str] = Field(description="What errors leave out, in sentences.")
    verdict: str = Field(description="What it comes to, in a sentence or two.")
    resampled: str | None = Field(description="What intervals were drawn from; none: too few to draw from.")
    ranks: RanksView | None
    rows: list[BoardRowView]


class DeceptionsQuery(BaseModel):
    metric: str | None = Field(None, description="What skill is told by; empty: the experiment's first.")


class DeceptionView(BaseModel):
    """A way in which an entrant's numbers deceive."""

    contender: str
    kind: str
    title: str
    text: str


class SealBody(Body):
    contender: str = Field(description="Who is judged on the sealed folds, with the baseline.")


class SealBreakingView(BaseModel):
    """Whose numbers on sealed folds were looked at."""

    contender: str
    broken: datetime
    here: bool = Field(description="Whether in this experiment.")


class SealedRowView(BaseModel):
    """Skill on sealed folds, and how much higher it was on the open ones it was chosen by."""

    contender: str
    skill: float | None
    skill_low: float | None
    skill_high: float | None
    optimism: float | None


class SealedView(BaseModel):
    folds: int
    sentence: str
    breakings: list[SealBreakingView]
    rows: list[SealedRowView]


class DeceptionsView(BaseModel):
    used: str = Field(description="What earlier experiments have judged on the same time; empty: nothing.")
    caution: str = Field(description="What to mind about the best, in a sentence; empty: nothing.")
    deceptions: list[DeceptionView]


class ForecastsBody(Body):
    series: Index
    origin: Index
    contenders: list[str] | None = None


class ForecastView(BaseModel):
    contender: str
    fold: Place
    stored: bool
    times: list[float]
    mean: Numbers
    flat_mean: Numbers
    levels: list[float] = []
    lower: list[Numbers] = []
    upper: list[Numbers] = []


class ForecastsView(BaseModel):
    origin: Place
    time: float
    fold: Place | None = Field(None, description="The fold that had learned by then, from 0.")
    forecasts: list[ForecastView]
    note: str = ""


class Catalogue(BaseModel):
    """Everything with settings: JSON schemas by kind."""

    stages: dict[str, Document]
    forecasters: dict[str, Document]
    folds: Document
    plan: Document
    metrics: dict[str, MetricView]
    default_metrics: list[str]
    roles: list[str]
