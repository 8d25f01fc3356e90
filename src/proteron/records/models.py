"""Tables. Nothing in them is pickled; documents are JSON, arrays `double precision[]` or NPZ."""

from datetime import datetime
from typing import Any

from sqlalchemy import (
    BigInteger,
    DateTime,
    Double,
    ForeignKey,
    Index,
    LargeBinary,
    String,
    Text,
    UniqueConstraint,
    func,
    text,
)
from sqlalchemy.dialects.postgresql import ARRAY, JSONB
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column

Document = dict[str, Any]


class Base(DeclarativeBase):
    type_annotation_map = {
        Document: JSONB,
        datetime: DateTime(timezone=True),
        bytes: LargeBinary,
        str: Text,
        int: BigInteger,
    }


class Kept:
    """What is named, copied and deleted.

    `revision` counts its changes, `changes` has the revision at which a field was changed last; `deleted` is when it
    was hidden, and `chosen` the choices of its project that were hidden with it.
    """

    name: Mapped[str]
    revision: Mapped[int] = mapped_column(default=1, server_default="1")
    changes: Mapped[Document] = mapped_column(default=dict, server_default="{}")
    deleted: Mapped[datetime | None]
    chosen: Mapped[Document] = mapped_column(default=dict, server_default="{}")

    def change(self, *fields: str) -> None:
        """Count a change of fields."""
        self.revision += 1
        self.changes = {**self.changes, **dict.fromkeys(fields, self.revision)}

    def changed_since(self, revision: int) -> Document:
        """What fields changed after a revision hold now."""
        fields = [name for name, at in self.changes.items() if at > revision]
        return {name: self.field(name) for name in fields}

    def field(self, name: str) -> Any:
        """What a field holds, as plain data."""
        value = getattr(self, name, None)
        return value.isoformat() if isinstance(value, datetime) else value


class Project(Kept, Base):
    """One piece of work; `choices` is what its rooms stand on at present."""

    __tablename__ = "project"
    __table_args__ = (Index("project_name", "name", unique=True, postgresql_where=text("deleted IS NULL")),)
    id: Mapped[int] = mapped_column(primary_key=True)
    choices: Mapped[Document] = mapped_column(default=dict)
    created: Mapped[datetime] = mapped_column(server_default=func.now())

    def field(self, name: str) -> Any:
        """What a field, or a choice, holds."""
        return super().field(name) if name in ("name", "deleted") else self.choices.get(name)


class Dataset(Kept, Base):
    """An immutable version of a panel; `layout` holds axis, unit and columns, `account` what was done."""

    __tablename__ = "dataset"
    __table_args__ = (Index("dataset_content", "project_id", "hash"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    parent_id: Mapped[int | None] = mapped_column(ForeignKey("dataset.id"))
    version: Mapped[int]
    hash: Mapped[str] = mapped_column(String(64))
    layout: Mapped[Document]
    account: Mapped[Document]
    created: Mapped[datetime] = mapped_column(server_default=func.now())


class Series(Base):
    """One series of a dataset: key, first time, grid position of its first point, number of points."""

    __tablename__ = "series"
    dataset_id: Mapped[int] = mapped_column(ForeignKey("dataset.id", ondelete="CASCADE"), primary_key=True)
    position: Mapped[int] = mapped_column(primary_key=True)
    key: Mapped[str]
    start: Mapped[int]
    length: Mapped[int]


class SeriesBlock(Base):
    """A run of 65,536 values of one column, doubles in network order; the target's column is empty text.

    Times follow from the grid; marks, a byte each, go with the target where there are any.
    """

    __tablename__ = "series_block"
    dataset_id: Mapped[int] = mapped_column(ForeignKey("dataset.id", ondelete="CASCADE"), primary_key=True)
    column: Mapped[str] = mapped_column(primary_key=True)
    series: Mapped[int] = mapped_column(primary_key=True)
    block: Mapped[int] = mapped_column(primary_key=True)
    values: Mapped[bytes]
    marks: Mapped[bytes | None]


class Experiment(Kept, Base):
    """Contenders × folds × series; `purpose` is judge (the board) or scan (one step ahead, for anomalies).

    `search` are settings of a search for more contenders, `race` how far it is.
    """

    __tablename__ = "experiment"
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), index=True)
    dataset_id: Mapped[int] = mapped_column(ForeignKey("dataset.id", ondelete="CASCADE"))
    purpose: Mapped[str] = mapped_column(String(16))
    document: Mapped[Document]
    state: Mapped[str] = mapped_column(String(16))
    reason: Mapped[str | None]
    created: Mapped[datetime] = mapped_column(server_default=func.now())
    started: Mapped[datetime | None]
    finished: Mapped[datetime | None]
    search: Mapped[Document | None]
    race: Mapped[Document | None]


class SealBreaking(Base):
    """A contender's numbers on sealed folds that were looked at; `root` is the hash of the data's first version."""

    __tablename__ = "seal_breaking"
    __table_args__ = (
        UniqueConstraint("experiment_id", "contender"), Index("seal_breaking_of", "project_id", "root"),
    )  # fmt: skip
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    root: Mapped[str] = mapped_column(String(64))
    experiment_id: Mapped[int | None] = mapped_column(ForeignKey("experiment.id", ondelete="SET NULL"), index=True)
    contender: Mapped[str]
    first: Mapped[datetime]
    last: Mapped[datetime]
    broken: Mapped[datetime] = mapped_column(server_default=func.now())


class ContenderRecord(Base):
    """A contender as its document, by the hash that stands for it in cells."""

    __tablename__ = "contender"
    hash: Mapped[str] = mapped_column(String(64), primary_key=True)
    document: Mapped[Document]


class ExperimentCell(Base):
    """A cell an experiment consists of, under the name its entrant has there; results are shared by all experiments."""

    __tablename__ = "experiment_cell"
    experiment_id: Mapped[int] = mapped_column(ForeignKey("experiment.id", ondelete="CASCADE"), primary_key=True)
    key: Mapped[str] = mapped_column(ForeignKey("cell.key"), primary_key=True, index=True)
    contender: Mapped[str]
    fold: Mapped[int]
    number: Mapped[int]


class CellRecord(Base):
    """What a cell is, and how it went: waiting, done, failed, or again (failed before, to be computed once more).

    `place` is its fold's document, `series` their positions, `levels` those of its ranges, `needs` keys of cells it
    reads, `work` a rough measure of how much there is to do, `batch` shared by cells computed together, `declined`
    reasons by key of series without a forecast.
    """

    __tablename__ = "cell"
    key: Mapped[str] = mapped_column(String(64), primary_key=True)
    fit_key: Mapped[str] = mapped_column(String(64))
    contender: Mapped[str] = mapped_column(ForeignKey("contender.hash"))
    place: Mapped[Document]
    series: Mapped[list[int]] = mapped_column(ARRAY(BigInteger))
    levels: Mapped[list[float]] = mapped_column(ARRAY(Double))
    needs: Mapped[list[str]] = mapped_column(ARRAY(Text))
    origins: Mapped[list[int]] = mapped_column(ARRAY(BigInteger))
    work: Mapped[float] = mapped_column(Double)
    batch: Mapped[str] = mapped_column(String(64))
    state: Mapped[str] = mapped_column(String(16), default="waiting")
    reason: Mapped[str | None]
    declined: Mapped[Document] = mapped_column(default=dict)
    seconds: Mapped[float] = mapped_column(Double, default=0.0)
    cpu_seconds: Mapped[float] = mapped_column(Double, default=0.0)
    memory: Mapped[int | None]
    finished: Mapped[datetime | None]


class FitRecord(Base):
    """What was learned, shared by cells with the same fit; `spread` are doubles per series, `arrays` an NPZ."""

    __tablename__ = "fit"
    key: Mapped[str] = mapped_column(String(64), primary_key=True)
    facts: Mapped[Document]
    arrays: Mapped[bytes]
    spread: Mapped[bytes]
    seconds: Mapped[float] = mapped_column(Double)
    cpu_seconds: Mapped[float] = mapped_column(Double, default=0.0)


class ForecastBlock(Base):
    """A cell's forecasts of one series as doubles in network order: per origin `horizon` values.

    `ranges` has the lower and upper end per level, each per origin; `paths` the joint futures, where there are any.
    """

    __tablename__ = "forecast_block"
    key: Mapped[str] = mapped_column(ForeignKey("cell.key", ondelete="CASCADE"), primary_key=True)
    series: Mapped[int] = mapped_column(primary_key=True)
    horizon: Mapped[int]
    gap: Mapped[int]
    mean: Mapped[bytes]
    flat_mean: Mapped[bytes]
    flat_truth: Mapped[bytes]
    ranges: Mapped[bytes]
    paths: Mapped[bytes | None]


class CellLoss(Base):
    """The loss of every point of a cell by one metric: doubles in network order, per series, origin and step."""

    __tablename__ = "cell_loss"
    key: Mapped[str] = mapped_column(ForeignKey("cell.key", ondelete="CASCADE"), primary_key=True)
    metric: Mapped[str] = mapped_column(primary_key=True)
    losses: Mapped[bytes]


class Scan(Base):
    """A dataset looked through for anomalies; `document` says how (mode, using, delay, until, contender), `budget` how
    many flags are wanted.

    `experiment_id` is the one whose cells a contender's scan waits for; `drill` how far a drill is, or what it came to.
    """

    __tablename__ = "scan"
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), index=True)
    dataset_id: Mapped[int] = mapped_column(ForeignKey("dataset.id", ondelete="CASCADE"), index=True)
    experiment_id: Mapped[int | None] = mapped_column(ForeignKey("experiment.id", ondelete="SET NULL"), index=True)
    document: Mapped[Document]
    budget: Mapped[Document] = mapped_column(default=dict)
    series: Mapped[int]
    state: Mapped[str] = mapped_column(String(16))
    reason: Mapped[str | None]
    drill: Mapped[Document | None]
    created: Mapped[datetime] = mapped_column(server_default=func.now())
    finished: Mapped[datetime | None]


class ScanSeries(Base):
    """What a scan found in one series: expected values and scores as doubles in network order, candidates, the moments
    at which was learned, and how many points were scored."""

    __tablename__ = "scan_series"
    scan_id: Mapped[int] = mapped_column(ForeignKey("scan.id", ondelete="CASCADE"), primary_key=True)
    series: Mapped[int] = mapped_column(primary_key=True)
    expected: Mapped[bytes]
    score: Mapped[bytes]
    candidates: Mapped[list[Document]] = mapped_column(JSONB)
    moments: Mapped[list[int]] = mapped_column(ARRAY(BigInteger))
    scored: Mapped[int]


class FlagRow(Base):
    """A flag of a scan within its present budget, with what was said of it; for whoever reads the database."""

    __tablename__ = "flag"
    scan_id: Mapped[int] = mapped_column(ForeignKey("scan.id", ondelete="CASCADE"), primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int]
    series: Mapped[str]
    time: Mapped[datetime]
    until: Mapped[datetime]
    raised: Mapped[datetime]
    steps: Mapped[int]
    kind: Mapped[str]
    score: Mapped[float] = mapped_column(Double)
    observed: Mapped[float | None] = mapped_column(Double)
    expected: Mapped[float | None] = mapped_column(Double)
    sentence: Mapped[str]
    verdict: Mapped[str]
    note: Mapped[str]


class Watched(Base):
    """What is known of series that come point by point, as a file that goes on from there."""

    __tablename__ = "watched"
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), index=True)
    name: Mapped[str] = mapped_column(String(200))
    state: Mapped[bytes]
    created: Mapped[datetime] = mapped_column(server_default=func.now())
    moved: Mapped[datetime] = mapped_column(server_default=func.now())


class Verdict(Base):
    """What somebody said of flagged spans, or of spans nobody flagged: `document` has the spans (key, since, until),
    the verdict, a kind and a note. `root` is the hash of the data's first version; `undone` when it was taken back."""

    __tablename__ = "verdict"
    __table_args__ = (Index("verdict_of", "project_id", "root"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    root: Mapped[str] = mapped_column(String(64))
    document: Mapped[Document]
    made_by: Mapped[str] = mapped_column(default="")
    made: Mapped[datetime] = mapped_column(server_default=func.now())
    undone: Mapped[datetime | None]


class OutlookRecord(Base):
    """A final forecast; `arrays` (NPZ) holds mean, ranges and how they held once it is done; until then, `share` tells
    how far it is. One with `of_id` is a scenario of that outlook. Its data may be newer than that of the experiment
    which judged its contender."""

    __tablename__ = "outlook"
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), index=True)
    experiment_id: Mapped[int] = mapped_column(ForeignKey("experiment.id", ondelete="CASCADE"))
    dataset_id: Mapped[int] = mapped_column(ForeignKey("dataset.id", ondelete="CASCADE"), index=True)
    of_id: Mapped[int | None] = mapped_column(BigInteger, ForeignKey("outlook.id", ondelete="CASCADE"), index=True)
    document: Mapped[Document]
    state: Mapped[str] = mapped_column(String(16))
    share: Mapped[float] = mapped_column(Double, default=0.0, server_default="0")
    reason: Mapped[str | None]
    arrays: Mapped[bytes | None]
    created: Mapped[datetime] = mapped_column(server_default=func.now())
    finished: Mapped[datetime | None]


class OutlookPaths(Base):
    """Joint paths of one series of an outlook: single precision, (n_paths, horizon), row by row."""

    __tablename__ = "outlook_paths"
    outlook_id: Mapped[int] = mapped_column(ForeignKey("outlook.id", ondelete="CASCADE"), primary_key=True)
    series: Mapped[int] = mapped_column(primary_key=True)
    paths: Mapped[bytes]


class OutlookLearned(Base):
    """What an outlook learned, as a file that forecasts from newer data."""

    __tablename__ = "outlook_learned"
    outlook_id: Mapped[int] = mapped_column(ForeignKey("outlook.id", ondelete="CASCADE"), primary_key=True)
    learned: Mapped[bytes]


class Saved(Kept, Base):
    """A chain or a plan (`kind`: chains, plans) that was given a name, to be used again in the project."""

    __tablename__ = "saved"
    __table_args__ = (
        Index("saved_name", "project_id", "kind", "name", unique=True, postgresql_where=text("deleted IS NULL")),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    kind: Mapped[str] = mapped_column(String(16))
    document: Mapped[Document]


class FittedChainRecord(Base):
    """A chain with what it learned from one version of a dataset as of a cutoff."""

    __tablename__ = "fitted_chain"
    __table_args__ = (UniqueConstraint("dataset_id", "hash"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    dataset_id: Mapped[int] = mapped_column(ForeignKey("dataset.id", ondelete="CASCADE"))
    name: Mapped[str]
    hash: Mapped[str] = mapped_column(String(64))
    document: Mapped[Document]
    created: Mapped[datetime] = mapped_column(server_default=func.now())


class PanelProfile(Base):
    """The features of a dataset's series as of a cutoff, complete once its state is done."""

    __tablename__ = "panel_profile"
    __table_args__ = (UniqueConstraint("dataset_id", "until", "version"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    dataset_id: Mapped[int] = mapped_column(ForeignKey("dataset.id", ondelete="CASCADE"))
    until: Mapped[int]
    version: Mapped[int]
    series: Mapped[int]
    state: Mapped[str] = mapped_column(String(16))
    reason: Mapped[str | None]
    created: Mapped[datetime] = mapped_column(server_default=func.now())


class SeriesFeature(Base):
    """The features of one series."""

    __tablename__ = "series_feature"
    profile_id: Mapped[int] = mapped_column(ForeignKey("panel_profile.id", ondelete="CASCADE"), primary_key=True)
    series: Mapped[int] = mapped_column(primary_key=True)
    features: Mapped[Document]
