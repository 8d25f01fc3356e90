"""The experiment file: one TOML document that says everything, and running it without web or database."""

import tomllib
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, Field, ValidationError

from proteron.core.anomalies import Anomalies, Mode, Over, find_anomalies
from proteron.core.documents import Settings, settings_error
from proteron.core.errors import InputError, SettingsError, TooShortError
from proteron.core.flatten.chain import Chain
from proteron.core.flatten.registry import AnyStage
from proteron.core.forecasters import Contender
from proteron.core.forecasters.blend.forecaster import Blend
from proteron.core.forecasters.blend.members import Member
from proteron.core.forecasters.contender import Ranges
from proteron.core.forecasters.registry import AnyForecaster
from proteron.core.intake import Recipe, Role, TableReading, read_table
from proteron.core.judge import (
    DEFAULT_METRICS,
    LEVELS,
    BoardRow,
    Cell,
    CellResult,
    Folds,
    Report,
    check_judging,
    expand,
    walk_forward,
    with_members,
    with_members_of,
)
from proteron.core.outlook import (
    MOST_PATHS,
    MOST_STEPS,
    Ahead,
    Learned,
    Outlook,
    RangesBy,
    Scenario,
    outlook,
    steps_to,
)
from proteron.core.panel import Panel
from proteron.core.search import Contest, SearchReport, SearchSettings, Tidings, raced
from proteron.core.timeline import STEP_TEXTS
from proteron.core.windows import WindowPlan


class DataSettings(Settings):
    """Where the data is and how it is read; `dataset` guards against a file that has changed."""

    file: str = Field(description="Path, relative to the experiment file.")
    roles: dict[str, Role] = Field(default_factory=dict, description="Column to role; the rest is guessed.")
    step: str | None = Field(None, description=f"{STEP_TEXTS}; empty: inferred.")
    zone: str | None = Field(None, description="Such as “Europe/Lisbon”; empty: the recipe's, or UTC.")
    unit: str | None = None
    recipe: Recipe = Field(Recipe(), description="Everything else that intake decided.")
    dataset: str | None = Field(None, description="SHA-256 of the dataset; a mismatch stops the run.")


class ContenderEntry(Settings):
    """A named contender: a forecaster and the stages of its chain."""

    name: str = Field(min_length=1)
    forecaster: AnyForecaster
    chain: tuple[AnyStage, ...] = ()
    bias_adjust: bool = Field(
        False, title="Bias adjustment", description="Forecast the mean behind the chain, not what its middle becomes."
    )

    ranges: Ranges = Field(
        "own", title="Ranges", description="As they are, or corrected by how those of earlier folds held: split "
        "conformal, or adaptive, which also follows how they held lately.",
    )  # fmt: skip

    safeguards: bool = Field(
        True, title="Safeguards", description="No step beyond 1.5 × the largest move over as many, none below the "
        "floor, zero where a slot of a season always was.",
    )  # fmt: skip
    floor: float | None = Field(
        None, allow_inf_nan=False, title="Floor",
        description="No forecast is below; empty: 0 where nothing known is below 0.",
    )  # fmt: skip

    @property
    def contender(self) -> Contender:
        """The contender that the entry describes."""
        return Contender(
            forecaster=self.forecaster, chain=Chain(self.chain, bias_adjust=self.bias_adjust), ranges=self.ranges,
            safeguards=self.safeguards, floor=self.floor,
        )  # fmt: skip

    @classmethod
    def of(cls, name: str, contender: Contender) -> "ContenderEntry":
        """A contender as it stands in a file."""
        chain = contender.chain
        return cls(
            name=name, forecaster=contender.forecaster, chain=chain.stages, bias_adjust=chain.bias_adjust,
            ranges=contender.ranges, safeguards=contender.safeguards, floor=contender.floor,
        )  # fmt: skip


class SealBreaking(Settings):
    """Whose numbers on the sealed folds were looked at, and when."""

    contender: str
    when: str = ""


class OutlookSettings(Settings):
    """The final forecast; by default the contender with the best skill over the judged horizon."""

    contender: str | None = None
    horizon: int | None = Field(
        None, ge=1, le=MOST_STEPS, description="Steps; empty: as many as were judged; more are rehearsed."
    )
    until: int | None = Field(None, ge=1, description="Known points; empty: all.")
    to: str | None = Field(None, max_length=40, description="A local time or day, in the place of steps.")
    ranges: RangesBy = Field(
        "errors", description="Of errors out of sample, adapted to how such ranges held, or as the forecaster states."
    )
    floor: float | None = Field(None, allow_inf_nan=False, description="The quantity is never below.")
    ceiling: float | None = Field(None, allow_inf_nan=False, description="The quantity is never above.")
    whole: bool = Field(False, description="The quantity comes in whole numbers.")
    paths: int = Field(1000, ge=1, le=MOST_PATHS, description="Joint futures that are drawn.")
    joint: bool = Field(True, description="Errors of several series go together as they did.")
    levels: tuple[Annotated[float, Field(gt=0, lt=1)], ...] | None = Field(
        None, description="Of the ranges; empty: those that were judged."
    )
    ahead: Ahead = Field("given", description="How columns known ahead go on where they end too early.")
    seed: int | None = Field(None, ge=0, description="Of the draws; empty: the experiment's.")
    scenario: Scenario | None = Field(None, description="How what is known ahead comes otherwise than given.")

    def steps(self, known: Panel) -> int | None:
        """How many steps after the end of what is known; None where nothing is said."""
        return self.horizon if self.to is None else steps_to(known, self.to)

    def made(
        self, panel: Panel, contender: Contender, results: Sequence[CellResult], judged: "Judging", **work: Any
    ) -> Outlook:
        """The outlook of a contender, with ranges of what was judged where it is as far ahead; `work` as `outlook`
        takes it: progress, and whether to stop."""
        beside = self.model_dump(exclude={"contender", "horizon", "levels", "seed", "scenario"})
        levels = judged.levels if self.levels is None else self.levels
        seed = judged.seed if self.seed is None else self.seed
        return outlook(panel, contender, results, self.horizon, levels, seed, scenario=self.scenario, **beside, **work)


class AnomalySettings(Settings):
    """Flags of the joint detector, or of the one-step errors of the contender that is named."""

    mode: Mode = Field("looking_back", description="Or as_of: what would have been raised at each moment.")
    using: str | None = Field(None, description="A contender; empty: the joint detector.")
    per_week: float | None = Field(None, gt=0, description="Flags a week.")
    per_thousand: float | None = Field(None, gt=0, description="Flags in 1,000 points.")
    threshold: float | None = Field(None, gt=0, description="In spreads, in the place of a budget.")
    over: Over = Field("panel", description="Whether the budget is for the whole panel, or for every series.")
    delay: int = Field(2, ge=0, le=8, description="Points after a point before it is decided, as of each moment.")


def entered(entries: tuple[ContenderEntry, ...]) -> tuple[ContenderEntry, ...]:
    """Entries with the members of blends described, and entered where they were not."""
    names = [entry.name for entry in entries]
    if len(set(names)) != len(names):
        raise ValueError("two contenders have the same name")
    described = tuple(_described(entry, entries) for entry in entries)
    there = {entry.name: entry.contender for entry in described}
    return described + tuple(
        ContenderEntry.of(name, each) for name, each in with_members(there).items() if name not in there
    )


def _described(entry: ContenderEntry, entries: tuple[ContenderEntry, ...]) -> ContenderEntry:
    """A blend whose members named alone are the entrants of these names; any other entry as it is."""
    if not isinstance(entry.forecaster, Blend):
        return entry
    there = {each.name: each for each in entries}
    members = []
    for member in entry.forecaster.members:
        if not member.contender:
            if member.name not in there:
                raise ValueError(f"“{entry.name}” is to blend “{member.name}”, which is not among the contenders")
            member = Member(name=member.name, contender=there[member.name].contender.document())
        members.append(member)
    blend = Blend.model_validate({**entry.forecaster.document(), "members": members})
    return entry.model_copy(update={"forecaster": blend})


class Judging(Settings):
    """Contenders × folds × series: what is judged and how; the one description for core, file, records and API."""

    seed: int = Field(0, ge=0, title="Seed")
    folds: Folds = Folds()
    metrics: tuple[str, ...] = Field(DEFAULT_METRICS, title="Metrics")
    baseline: str | None = Field(None, title="Baseline", description="Empty: the first naive contender.")
    levels: tuple[Annotated[float, Field(gt=0, lt=1)], ...] = Field(
        LEVELS, title="Ranges", description="Levels of the ranges kept from every origin."
    )
    contenders: Annotated[tuple[ContenderEntry, ...], Field(min_length=1), AfterValidator(entered)]

    @property
    def chosen_baseline(self) -> str:
        """The baseline that is named, or else the first naive contender."""
        naive = (entry.name for entry in self.contenders if entry.contender.is_baseline)
        return self.baseline or next(naive, self.contenders[0].name)

    @property
    def entrants(self) -> dict[str, Contender]:
        """Contenders by their names."""
        return {entry.name: entry.contender for entry in self.contenders}

    def entry(self, name: str) -> ContenderEntry:
        """Raises `SettingsError` where there is no contender of that name."""
        for entry in self.contenders:
            if entry.name == name:
                return entry
        raise SettingsError(f"There is no contender “{name}”.", field="contender")

    def check(self) -> None:
        """Raise `SettingsError` for an unknown metric or a baseline that is not entered."""
        check_judging(self.entrants, self.metrics, self.chosen_baseline)

    def cells(self, panel: Panel, dataset: str | None = None) -> list[Cell]:
        """All cells on a panel; raises `TooShortError` where the folds do not fit."""
        return expand(panel, self.entrants, self.folds.resolve(panel), self.seed, dataset, self.levels)

    def sealed_cells(self, panel: Panel, contender: str, dataset: str | None = None) -> list[Cell]:
        """Cells of a contender, of whom it is blended and of the baseline on the sealed folds, which are numbered on
        after the open ones."""
        entered = with_members_of([self.chosen_baseline, self.entry(contender).name], self.entrants)
        sealed, first = self.folds.resolve_sealed(panel), len(self.folds.resolve(panel))
        return expand(panel, entered, sealed, self.seed, dataset, self.levels, first, self.cells(panel, dataset))


class Experiment(Judging):
    """A judging with everything needed to run it again: data, a table to cut, outlook, anomalies."""

    schema_version: Literal[1] = 1
    name: str = "experiment"
    data: DataSettings
    windows: WindowPlan | None = Field(None, description="A table to cut and write, beside the contenders' own.")
    seals: tuple[SealBreaking, ...] = Field((), description="Seals that were broken; those folds are judged too.")
    search: SearchSettings | None = Field(None, description="Candidates to find, judged beside the contenders.")
    outlook: OutlookSettings | None = None
    anomalies: AnomalySettings | None = None

    @classmethod
    def load(cls, path: Path) -> "Experiment":
        """Read and validate a TOML file; raises `InputError` or `SettingsError`."""
        try:
            return cls.model_validate(tomllib.loads(path.read_text("utf-8")))
        except OSError as error:
            raise InputError(f"{path} cannot be read: {error.strerror}.", field="file") from error
        except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
            raise InputError(f"{path.name} is not TOML: {error}.", field="file") from error
        except ValidationError as error:
            raise settings_error(error) from error

    def read(self, folder: Path) -> TableReading:
        """The data it is about, from `folder`; raises `InputError`, also where it is not the data it was made with."""
        data = self.data
        reading = read_table(
            folder / data.file, data.roles or None, data.step, data.zone, data.unit, recipe=data.recipe
        )
        found = reading.panel.hash
        if data.dataset and data.dataset != found:
            raise InputError(
                f"{data.file} is not the data this experiment was made with: {found[:12]}, not {data.dataset[:12]}.",
                field="data.dataset",
            )
        return reading


@dataclass(frozen=True)
class Outcome:
    """Everything one run of an experiment file found."""

    reading: TableReading
    report: Report
    sealed: dict[str, Report]
    forecast: Outlook | None
    forecast_by: str | None
    anomalies: Anomalies | None
    search: SearchReport | None = None


def run_experiment(
    experiment: Experiment,
    folder: Path,
    workers: int = 1,
    progress: Callable[[int, int, Cell, str | None], None] | None = None,
    tidings: Callable[[Tidings], None] | None = None,
) -> Outcome:
    """Import, search, judge, forecast and flag as the experiment says; files are looked up in `folder`.

    Ctrl-C ends a search, and what it found is judged with the rest.
    """
    reading = experiment.read(folder)
    panel = reading.panel
    experiment.check()
    found = None
    if experiment.search is not None:
        baseline = experiment.chosen_baseline
        contest = Contest(
            panel, experiment.search, experiment.folds, experiment.seed, (baseline, experiment.entrants[baseline]),
            experiment.metrics, experiment.levels, tuple(experiment.entrants),
        )  # fmt: skip
        found = raced(contest, workers, progress=tidings)
    report = walk_forward(
        panel, experiment.entrants, experiment.folds, experiment.metrics, experiment.chosen_baseline,
        experiment.seed, workers, progress, experiment.levels,
    )  # fmt: skip
    report = report if found is None else _with_found(report, found)
    sealed = {each.contender: report.break_seal(each.contender, workers) for each in experiment.seals}
    forecast, by = None, None
    if experiment.outlook is not None and report.results:
        forecast, by = _forecast(experiment, panel, report, workers)
    anomalies = None
    if experiment.anomalies is not None:
        asked = experiment.anomalies.document()
        asked["using"] = None if asked["using"] is None else experiment.entry(asked["using"]).contender
        anomalies = find_anomalies(panel, seed=experiment.seed, workers=workers, **asked)
    return Outcome(reading, report, sealed, forecast, by, anomalies, found)


def _forecast(experiment: Experiment, panel: Panel, report: Report, workers: int) -> tuple[Outlook, str]:
    """The outlook by whom the experiment names, or the best of the report, and by whom it is."""
    wanted = experiment.outlook or OutlookSettings()
    by = wanted.contender or best_of(report.board)
    if by not in report.contenders:
        raise SettingsError(f"There is no contender “{by}”.", field="outlook.contender")
    mine = [result for result in report.results if result.cell.name == by]
    return wanted.made(panel, report.contenders[by], mine, experiment, workers=workers), by


def forecast_experiment(
    experiment: Experiment, folder: Path, workers: int = 1, using: Learned | None = None
) -> tuple[Outlook, str]:
    """The outlook of an experiment, and by whom, with the numbers that running all of it would give; only the contender
    that is named is judged, or all where none is. `using` what was learned before, nothing is learned or judged.

    Raises what reading, judging and forecasting do.
    """
    panel = experiment.read(folder).panel
    wanted = experiment.outlook or OutlookSettings()
    if using is not None:
        seed = experiment.seed if wanted.seed is None else wanted.seed
        known = panel.cut_at(wanted.until)
        view = using.outlook(
            known, wanted.steps(known), seed, wanted.ahead, paths=wanted.paths, joint=wanted.joint,
            scenario=wanted.scenario,
        )  # fmt: skip
        return view, using.fitted.contender.forecaster.title
    if wanted.contender is None or experiment.search is not None:
        outcome = run_experiment(experiment.model_copy(update={"outlook": wanted}), folder, workers)
        if outcome.forecast is None or outcome.forecast_by is None:
            raise TooShortError("Nothing could be judged, so there is no forecast.", field="folds")
        return outcome.forecast, outcome.forecast_by
    experiment.check()
    entrants = {wanted.contender: experiment.entry(wanted.contender).contender}
    report = walk_forward(
        panel, entrants, experiment.folds, seed=experiment.seed, workers=workers, levels=experiment.levels
    )  # fmt: skip
    return _forecast(experiment, panel, report, workers)


def _with_found(report: Report, found: SearchReport) -> Report:
    """A board with what a search brought to its end, and its blend, beside the experiment's own contenders."""
    theirs = {name: each for name, each in found.report.contenders.items() if name not in report.contenders}
    results = [each for each in found.report.results if each.cell.name in theirs]
    return replace(report, contenders={**report.contenders, **theirs}, results=(*report.results, *results))


def best_of(board: Sequence[BoardRow]) -> str:
    """The contender with the highest skill; ties go to the one entered first."""
    return max(board, key=lambda row: float("-inf") if row.skill is None else row.skill).contender
