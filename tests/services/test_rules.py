"""Rules of the rooms and of experiments, without HTTP: what is out of date, what is refused, what a file says."""

from datetime import UTC, datetime
from types import SimpleNamespace

import numpy as np
import pytest

import proteron as pt
from proteron.core.experiment import Judging, OutlookSettings
from proteron.core.intake import TableReading
from proteron.core.judge import compute_cell
from proteron.core.panel import Panel
from proteron.records import experiments as records
from proteron.records.configuration import Configuration
from proteron.records.database import ConflictError, NotFoundError
from proteron.records.datasets import save_dataset
from proteron.records.kept import ChangedError
from proteron.records.projects import create_project, delete_project, get_project
from proteron.records.results import save_result
from proteron.runner.queue import jobs_of
from proteron.services import boards, experiments, forecasts, kept
from proteron.services.outlooks import orders, shown
from proteron.services.resources import BusyError, Resources
from proteron.services.rooms import made_by, room_states


def states(choices: dict, experiments_: dict[int, int] | None = None, outlooks_: dict[int, int] | None = None) -> dict:
    """Room states as words; experiments and scans by their dataset, outlooks by their experiment."""
    known = {each: SimpleNamespace(id=each, dataset_id=dataset) for each, dataset in (experiments_ or {}).items()}
    of = experiments_ or {}
    made = {each: SimpleNamespace(id=each, experiment_id=source, dataset_id=of.get(source))
            for each, source in (outlooks_ or {}).items()}  # fmt: skip
    return {name: state.state for name, state in room_states(choices, known, known, made).items()}  # type: ignore[arg-type]


def test_rooms_are_empty_current_or_out_of_date() -> None:
    assert set(states({}).values()) == {"empty"}
    data = states({"dataset_id": 1})
    assert {name for name, state in data.items() if state == "current"} == {"intake", "profile"}
    assert states({"dataset_id": 1, "chain": [{}]})["flatten"] == "current"
    assert states({"chain": [{}], "plan": {"lags": [1]}})["flatten"] == "empty"
    assert states({"dataset_id": 1, "plan": {"lags": [1]}})["windows"] == "current"
    chosen = {"dataset_id": 1, "experiment_id": 5, "scan_id": 6, "outlook_id": 7}
    current = states(chosen, {5: 1, 6: 1}, {7: 5})
    assert (current["walkforward"], current["anomalies"], current["outlook"]) == ("current",) * 3
    other_data = states({**chosen, "dataset_id": 2}, {5: 1, 6: 1}, {7: 5})
    assert (other_data["walkforward"], other_data["anomalies"], other_data["outlook"]) == ("outdated",) * 3
    only_scan = states(chosen, {5: 1, 6: 3}, {7: 5})
    assert (only_scan["walkforward"], only_scan["anomalies"], only_scan["outlook"]) == (
        "current",
        "outdated",
        "current",
    )
    another = states({**chosen, "experiment_id": 8}, {5: 1, 6: 1, 8: 1}, {7: 5})
    assert (another["walkforward"], another["outlook"]) == ("current", "outdated")
    gone = states(chosen, {6: 1}, {7: 5})
    assert (gone["walkforward"], gone["outlook"]) == ("empty", "outdated")
    reasons = {name: state.reason for name, state in room_states({"dataset_id": 2, "scan_id": 6}, {}, {
        6: SimpleNamespace(id=6, dataset_id=1)}, {}).items()}  # type: ignore[dict-item]  # fmt: skip
    assert reasons["anomalies"] == "made from another version of the data" and reasons["intake"] == ""


def test_what_made_a_version_is_told_in_a_few_words() -> None:
    assert made_by({"reader": "csv"}) == "read as csv"
    assert made_by({"files": ["a", "b"]}) == "read from 2 files"
    assert made_by({"edits": [{"masks": [1]}, {"filling": {"method": "linear"}, "coarser": {"step": "1 day"}}]}) == (
        "summed up, gaps filled"
    )
    assert made_by({"edits": [{"filling": {"method": "leave"}}]}) == "changed"


@pytest.fixture
def reach(database_url: str, tmp_path: object) -> Resources:
    return Resources(Configuration(home=tmp_path), database_url)  # type: ignore[arg-type]


class Made:
    """A project with a dataset and one experiment, computed here where asked."""

    def __init__(self, reach: Resources, name: str, panel: Panel, compute: bool = True, **changes: object) -> None:
        entries = [
            {"name": "naive", "forecaster": {"kind": "seasonal_last_value", "period": 7}},
            {"name": "line", "forecaster": {"kind": "trend_curve"}},
        ]
        self.judging = Judging.parse(
            {"contenders": entries, "folds": {"count": 3, "horizon": 5, "span": 10}, **changes}
        )
        with reach.database.session() as session:
            delete_project(session, name)
            self.project = create_project(session, name).id
            self.dataset = save_dataset(session, self.project, "Füll Data", TableReading(panel, (), {})).id
        with reach.database.session() as session:
            made = experiments.create(session, panel, self.project, self.dataset, "judge", name, self.judging)
            self.id = made.id
        for cell in self.judging.cells(panel) if compute else ():
            with reach.database.session() as session:
                save_result(session, compute_cell(panel, cell))


@pytest.fixture
def panel() -> Panel:
    rng = np.random.default_rng(3)
    days = np.arange(120)
    weekly = 50 + 5 * (days % 7) + rng.normal(size=120)
    return Panel.from_arrays({"a": weekly, "b": 9 + 0.1 * days + rng.normal(size=120)}, "2024-01-01", "1 day")


def test_an_experiment_is_checked_before_it_is_stored(reach: Resources, panel: Panel) -> None:
    made, other = Made(reach, "one", panel, False), Made(reach, "two", panel, False)

    def create(dataset: int, judging: Judging, project: int = made.project) -> int:
        with reach.database.session() as session:
            return experiments.create(session, panel, project, dataset, "judge", "x", judging).id

    with pytest.raises(pt.SettingsError, match="belongs to another project"):
        create(other.dataset, made.judging)
    with pytest.raises(NotFoundError):
        create(made.dataset, made.judging, project=10**8)
    with pytest.raises(pt.SettingsError, match="is not among the contenders"):
        create(made.dataset, made.judging.model_copy(update={"baseline": "nobody"}))
    with pytest.raises(pt.TooShortError):
        create(made.dataset, made.judging.model_copy(update={"folds": pt.Folds.expanding(count=99, horizon=9)}))
    number = create(made.dataset, made.judging)
    with reach.database.session() as session:
        stored = experiments.judging_of(records.get_experiment(session, number))
    assert stored.baseline == "naive" and stored == made.judging.model_copy(update={"baseline": "naive"})


def test_the_board_is_the_report_s_to_the_bit_by_any_metric(reach: Resources, panel: Panel) -> None:
    made = Made(reach, "same board", panel)
    report = pt.walk_forward(panel, made.judging.entrants, made.judging.folds, made.judging.metrics, "naive")
    with reach.database.session() as session:
        found = boards.board_of(session, records.get_experiment(session, made.id), panel)
        by_rmse = boards.board_of(session, records.get_experiment(session, made.id), panel, "rmse")
    for mine, theirs in zip(found, report.board, strict=True):
        assert mine["cpu_seconds"] > 0 and theirs["cpu_seconds"] > 0
        left = [{n: v for n, v in each.items() if "seconds" not in n} for each in (mine, theirs)]
        assert left[0] == left[1]
    assert by_rmse.skill_metric == "rmse" and found.skill_metric == "mase"
    assert by_rmse.row("line").skill == pytest.approx(1 - found.row("line")["rmse"] / found.row("naive")["rmse"])


def test_a_board_that_was_read_before_knows_every_cell_that_has_come_in_since(reach: Resources, panel: Panel) -> None:
    made = Made(reach, "cell by cell", panel, compute=False, seed=78)

    def board(metric: str | None = None) -> pt.Board:
        with reach.database.session() as session:
            return boards.board_of(session, records.get_experiment(session, made.id), panel, metric)

    assert [row.cells for row in board()] == [0, 0]
    for done, cell in enumerate(made.judging.cells(panel), start=1):
        with reach.database.session() as session:
            save_result(session, compute_cell(panel, cell))
        board("crps")  # a metric beside those of the experiment is no part of what others leave out
        seen = board()
        assert sum(row.cells for row in seen) == done
        boards._losses.clear()
        assert (board(), board().notes) == (seen, seen.notes)


def test_forecasts_and_facts_are_those_of_the_fold_that_had_learned(reach: Resources, panel: Panel) -> None:
    made = Made(reach, "from cutoffs", panel)
    folds = made.judging.folds.resolve(panel)
    nothing = forecasts.forecasts_at(reach, made.id, 0, folds[0].cutoff - 1)
    assert nothing[:2] == (None, []) and "the first cutoff is 2024-03-30 00:00:00" in nothing[2]
    for origin, fold, stored in (
        (folds[0].cutoff, 0, True),
        (folds[1].cutoff - 1, 0, False),
        (folds[1].cutoff + 5, 1, True),
    ):
        learned, found, note = forecasts.forecasts_at(reach, made.id, 1, origin, ["line", "naive"])
        assert (learned, note) == (fold, "") and [each.contender for each in found] == ["line", "naive"]
        assert [each.stored for each in found] == [stored] * 2
        assert (found[0].bounds is not None) == stored
        fitted = made.judging.entry("line").contender.fit(panel, until=folds[fold].cutoff, horizon=5)
        expected = fitted.means(panel, np.array([origin]), 5)[0][1, 0]
        np.testing.assert_allclose(found[0].mean, expected, rtol=1e-12)
        assert found[0].positions.tolist() == list(range(origin, origin + 5))
        facts = forecasts.facts_of(reach, made.id, "line", 1, origin=origin)
        assert facts.fold == fold and facts.summary == fitted.summary["b"]
    assert forecasts.facts_of(reach, made.id, "line", 1, fold=2).fold == 2
    for asked in ({"origin": folds[0].cutoff - 1}, {"fold": 9}, {}):
        with pytest.raises(NotFoundError):
            forecasts.facts_of(reach, made.id, "line", 1, **asked)


def test_an_experiment_file_says_what_was_judged(reach: Resources, panel: Panel) -> None:
    made = Made(reach, "as a file", panel, False, levels=[0.6], metrics=["mae"], seed=9)
    with reach.database.session() as session:
        document = experiments.file_document(session, records.get_experiment(session, made.id), panel)
    assert document["data"]["file"] == "f-ll-data.csv" and document["data"]["dataset"] == panel.hash
    again = pt.Experiment.model_validate(document)
    assert Judging.model_validate({name: getattr(again, name) for name in Judging.model_fields}) == (
        made.judging.model_copy(update={"baseline": "naive"})
    )
    assert again.outlook is not None and again.outlook.horizon == 5


def test_an_outlook_is_ordered_if_it_can_be_made(reach: Resources, panel: Panel) -> None:
    made = Made(reach, "ordered", panel)
    with pytest.raises(pt.SettingsError, match="no contender"):
        orders.order(reach, made.id, OutlookSettings(contender="nobody"))
    with pytest.raises(pt.SettingsError, match="floor lies below"):
        orders.order(reach, made.id, OutlookSettings(contender="line", floor=2, ceiling=1))
    record = orders.order(reach, made.id, OutlookSettings(contender="line", horizon=6))
    assert record.state == "queued"
    with pytest.raises(ConflictError, match="not finished"):
        shown.made(reach, record.id)
    other = Made(reach, "other data", panel)
    with reach.database.session() as session:
        assert get_project(session, made.project).choices["outlook_id"] == record.id
        later = save_dataset(
            session, made.project, "d", TableReading(panel.cut_at(100), [], {}), parent_id=made.dataset
        )
    newer = orders.order(reach, made.id, OutlookSettings(contender="line", horizon=6), later.id)
    assert newer.dataset_id == later.id
    with reach.database.session() as session:
        assert get_project(session, made.project).choices["dataset_id"] == later.id
    with pytest.raises(pt.SettingsError, match="no later version"):
        orders.order(reach, made.id, OutlookSettings(contender="line"), other.dataset)


def test_an_experiment_is_chosen_run_stopped_and_run_again(reach: Resources, panel: Panel) -> None:
    made = Made(reach, "run", panel, False, seed=77)
    start = experiments.start

    def create(purpose: str, **rest: bool) -> int:
        return experiments.create_and_start(reach, made.project, made.dataset, purpose, "x", made.judging, **rest)

    def look(number: int) -> tuple[str, dict[str, int], bool]:
        with reach.database.session() as session:
            jobs = jobs_of(session, "run_cells", "experiment_id")
            experiment = records.get_experiment(session, number)
            return experiment.state, dict(get_project(session, made.project).choices), number in jobs

    waiting = create("judge", run=False)
    state, choices, jobs = look(waiting)
    assert (state, choices["experiment_id"], jobs) == ("stopped", waiting, False)
    scan = create("scan")
    state, choices, jobs = look(scan)
    assert (state, choices["experiment_id"], "scan_id" in choices) == ("running", waiting, False) and jobs
    with pytest.raises(ConflictError, match="running already"):
        start(reach.database, reach.queue, scan)
    with reach.database.session() as session:
        first = experiments.progress_of(session, records.get_experiment(session, scan))
        assert (first.cells, first.done, first.failed, first.seconds_left) == (6, 0, 0, None)
        experiments.stop(session, reach.queue, scan)
    state, _, jobs = look(scan)
    assert (state, jobs) == ("stopped", False)
    cells = made.judging.cells(panel)
    with reach.database.session() as session:
        records.save_failure(session, cells[0].key, "no")
    start(reach.database, reach.queue, scan)
    for cell in cells:
        with reach.database.session() as session:
            assert records.cell_state(session, cell.key) == ("again" if cell is cells[0] else "waiting")
            save_result(session, compute_cell(panel, cell))
            progress = experiments.progress_of(session, records.get_experiment(session, scan))
            assert progress.done == cells.index(cell) + 1
            passed = (datetime.now(UTC) - records.get_experiment(session, scan).started).total_seconds()
            assert progress.seconds_left == pytest.approx(
                passed / progress.done * (6 - progress.done), rel=0.3, abs=0.02
            )
    with reach.database.session() as session:
        experiments.stop(session, reach.queue, scan)
    start(reach.database, reach.queue, scan)
    assert look(scan)[0] == "done"  # nothing was left to compute
    with reach.database.session() as session:
        assert experiments.stop(session, reach.queue, scan).state == "done"


def test_quick_work_is_bounded(reach: Resources, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("proteron.services.resources._WAIT_SECONDS", 0.01)
    with reach.computing(), reach.computing(), reach.computing(), pytest.raises(BusyError), reach.computing():
        pass
    with reach.computing():
        pass


def test_a_fitted_chain_is_kept_by_what_it_depends_on(reach: Resources, panel: Panel) -> None:
    made = Made(reach, "chains", panel, False)
    chain = pt.Chain([pt.flatten.ZScore()])
    first = reach.chain(made.dataset, chain, 60)
    assert reach.chain(made.dataset, pt.Chain([pt.flatten.ZScore()]), 60) is first
    assert reach.chain(made.dataset, chain, 61) is not first
    everything = reach.chain(made.dataset, chain, 10**6)  # beyond the end is the end
    assert everything is reach.chain(made.dataset, chain, 120) and everything.until == 120


@pytest.mark.parametrize("kind", ["experiments", "datasets", "projects"])
def test_what_runs_on_what_is_deleted_is_stopped_and_nothing_else(reach: Resources, panel: Panel, kind: str) -> None:
    made, other = (
        Made(reach, f"{name} {kind}", panel, False, seed=seed) for name, seed in (("gone", 101), ("stays", 102))
    )
    number, stays = (
        experiments.create_and_start(reach, each.project, each.dataset, "judge", "x", each.judging)
        for each in (made, other)
    )
    record = {"experiments": number, "datasets": made.dataset, "projects": made.project}[kind]
    with pytest.raises(ChangedError):
        kept.delete(reach, kind, record, known=99)  # type: ignore[arg-type]
    with reach.database.session() as session:
        assert records.get_experiment(session, number).state == "running"  # nothing is stopped by one who is refused
    kept.delete(reach, kind, record, known=None)  # type: ignore[arg-type]
    with reach.database.session() as session:
        jobs = jobs_of(session, "run_cells", "experiment_id")
        assert records.get_experiment(session, number).state == "stopped" and number not in jobs
        assert records.get_experiment(session, stays).state == "running" and stays in jobs
        experiments.stop(session, reach.queue, stays)
