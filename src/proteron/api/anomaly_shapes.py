"""Shapes of Anomalies: scans, flags, verdicts, drills."""

from typing import Literal

from pydantic import BaseModel, Field

from proteron.api.shapes import Body, Identifier, Index, Line, Place, ScanBrief, SpanQuery
from proteron.core.anomalies import Mode, Over

VerdictWord = Literal["right", "wrong", "open"]


class ScanPath(BaseModel):
    scan_id: Identifier


class NewScan(Body):
    """How a dataset is looked through."""

    dataset_id: Identifier
    mode: Mode = "as_of"
    using: str = Field("joint", description="A detector; “contender”: what a contender did not expect.")
    delay: int = Field(2, ge=0, le=8)
    until: Index | None = Field(None, description="Grid position after the last point that is used; empty: all.")
    experiment_id: Identifier | None = Field(None, description="The experiment of the contender.")
    contender: str | None = None


class BudgetBody(Body):
    """How many flags are wanted: a week, or in 1,000 points; or a threshold. Nothing: the detector's usual one."""

    per_week: float | None = Field(None, gt=0)
    per_thousand: float | None = Field(None, gt=0)
    threshold: float | None = Field(None, gt=0)
    over: Over = "panel"


class PrecisionView(BaseModel):
    """Of so many judged flags so many are right; the share with its 95 % interval."""

    right: int
    judged: int
    share: float | None
    low: float
    high: float


class ScanView(ScanBrief):
    """A scan with its budget and how far its drill is."""

    budget: BudgetBody
    drill: str | None = Field(description="null: none; running, done or failed.")
    drill_share: float | None
    drill_reason: str | None


class FlagView(BaseModel):
    series: Place
    key: str
    start: Place
    stop: Place
    time: float
    last: float
    raised: float | None
    kind: str
    named: str | None
    score: float
    observed: float | None
    expected: float | None
    once_in: float | None
    together: int
    occasion: str
    what: str
    sentence: str
    verdict: VerdictWord
    note: str
    by: str
    judged_at: str | None


class SpanLabelView(BaseModel):
    """A span that somebody labelled, flagged or not."""

    key: str
    start: Place
    stop: Place
    verdict: VerdictWord
    kind: str | None
    note: str


class FlagsView(BaseModel):
    """Flags within the budget, of all series, in time order; what occasions explain; what was said of other spans."""

    threshold: float
    per_week: float
    flags: list[FlagView]
    explained: list[FlagView]
    labels: list[SpanLabelView]
    precision: PrecisionView
    beyond: bool = Field(description="Whether the scan looks beyond the moment that is asked for.")


class FlagsQuery(BaseModel):
    until: Index | None = Field(None, description="Flags raised by then: a grid position; empty: all.")


class OpenFlagsView(BaseModel):
    """What is raised and not judged yet, the newest first."""

    flags: list[FlagView]


class ScoresQuery(SpanQuery):
    series: Index = Field(0)


class ScoresView(BaseModel):
    expected: Line
    score: Line


class CurvePointView(BaseModel):
    threshold: float
    per_week: float
    per_thousand: float
    drilled: float | None
    unverified: float | None


class LabelledView(BaseModel):
    """At a threshold: of judged flags above it so many are right, and so many of all right spans are caught."""

    threshold: float
    precision: PrecisionView
    recall: float | None


class CurvesView(BaseModel):
    """What thresholds cost and find, by all candidates and the drill; and by what was said of flags."""

    curve: list[CurvePointView]
    labelled: list[LabelledView]
    advised: float | None


class SpanBody(Body):
    key: str
    start: Place
    stop: Place


class VerdictBody(Body):
    """What is said of spans, flagged or not: whether they are anomalies, what they are, a note, and by whom."""

    spans: list[SpanBody] = Field(min_length=1, max_length=5000)
    verdict: VerdictWord
    kind: str | None = Field(None, min_length=1, max_length=60)
    note: str = Field("", max_length=2000)
    by: str = Field("", max_length=200)
    adjusted: bool = Field(False, description="Whether what is flagged there reaches just so far.")


class VerdictView(BaseModel):
    id: int
    verdict: VerdictWord
    kind: str | None
    note: str
    by: str
    made: str
    spans: int


class HistoryView(BaseModel):
    """What was said of the data of a scan and not taken back, the last first."""

    verdicts: list[VerdictView]


class AlikeQuery(BaseModel):
    key: str
    start: Place


class UseBody(Body):
    way: Literal["mask", "repair"]
    which: Literal["right", "not_wrong"] = "right"


class CompareBody(Body):
    """The experiment whose contenders are judged with and without."""

    experiment_id: Identifier


class TableQuery(BaseModel):
    format: Literal["csv", "json", "parquet", "arrow"] = "csv"


class WatchedPath(BaseModel):
    watched_id: Identifier


class WatchedQuery(BaseModel):
    name: str = Field("watched", min_length=1, max_length=200)


class PointsOf(Body):
    """What is new of a series: values from a time on."""

    key: str = Field(max_length=400)
    start: str = Field(max_length=40, description="Its first time, ISO 8601.")
    values: list[float | None] = Field(min_length=1, max_length=10_000)


class PointsBody(Body):
    """What is new of some series."""

    series: list[PointsOf] = Field(min_length=1, max_length=10_000)


class WatchedFlagView(BaseModel):
    """A flag of a series that is watched."""

    key: str
    kind: str
    since: str
    points: int
    score: float
    observed: float | None
    expected: float | None
    sentence: str


class WatchedView(BaseModel):
    """A watched panel: how far it is known, and what goes on."""

    id: int
    name: str
    step: str
    series: int
    points: int
    moved: str
    open: list[WatchedFlagView]


class WatchedBrief(BaseModel):
    id: int
    name: str
    moved: str


class WatchedListView(BaseModel):
    """Watched panels of a project, the newest first."""

    watched: list[WatchedBrief]


class RaisedView(WatchedView):
    """The same, and what the points raised."""

    raised: list[WatchedFlagView]


class DrillBody(Body):
    repeats: int = Field(40, ge=1, le=400, description="Faults of every kind and size.")
    seed: int = Field(0, ge=0, lt=2**53)
    shapes: dict[str, list[float]] = Field({}, description="Faults of one's own: what each adds, point by point.")


class RecallView(BaseModel):
    """Of planted faults of a kind and size: how many there were, which share was found, and how soon."""

    kind: str
    size: float
    typical: float | None
    planted: int
    found: int
    share: float
    low: float
    high: float
    named: float | None
    delay: float | None


class DrillView(BaseModel):
    """What a drill came to at the present threshold."""

    state: str | None
    progress: float
    reason: str | None
    threshold: float
    planted: int
    recall: list[RecallView]
    unverified: float | None
    echoes: int
    named: float | None
    late: float | None
    latest: float | None
    text: list[str]
    shapes: dict[str, list[float]]
