"""What becomes of an experiment's cells: failed, retried, unforeseen, shared, stopped; on a real database."""

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import numpy as np
import pytest

import proteron as pt
from proteron.core.experiment import Judging
from proteron.core.forecasters.baselines import Drift, Mean
from proteron.core.intake import TableReading
from proteron.core.panel import Panel
from proteron.records import experiments as records
from proteron.records.database import ConflictError, Database
from proteron.records.datasets import PanelCache, save_dataset
from proteron.records.projects import create_project, delete_project
from proteron.records.results import load_results
from proteron.runner.child import Here
from proteron.runner.queue import Queue, jobs_of
from proteron.runner.work.cells import CellWork
from proteron.services import boards
from proteron.services import experiments as services

NAMES = ("last_value", "mean", "drift")


class Desk(Here):
    """This process as a pool process."""


@pytest.fixture
def here(database_url: str) -> Iterator[type[Here]]:
    Desk.url, Desk.database, Desk.panels, Desk._locks = database_url, Database(database_url), PanelCache(2), None
    yield Desk
    Desk.locks().close()
    Desk.database.close()


@pytest.fixture
def queue(database_url: str) -> Iterator[Queue]:
    with Queue(database_url) as opened:
        yield opened


@contextmanager
def session_of(here: type[Here]) -> Iterator[Any]:
    with here.database.session() as session:
        yield session


class Bench:
    """An experiment of three baselines on two folds, computed by hand, cell by cell."""

    def __init__(self, here: type[Here], queue: Queue, name: str, **changes: Any) -> None:
        """On data of its own, since cells of equal data are shared."""
        rng = np.random.default_rng(list(name.encode()))
        panel = Panel.from_arrays({"a": rng.normal(size=60), "b": 9 + rng.normal(size=60)}, "2024-01-01", "1 day")
        self.here, self.queue, self.work, self.panel = here, queue, CellWork(), panel
        entries = [{"name": kind, "forecaster": {"kind": kind}} for kind in NAMES]
        self.judging = Judging.parse(
            {"folds": {"count": 2, "horizon": 3}, "contenders": entries, "levels": [], **changes}
        )
        with session_of(here) as session:
            delete_project(session, name)
            project = create_project(session, name)
            dataset = save_dataset(session, project.id, "d", TableReading(panel, (), {}))
            self.project, self.dataset = project.id, dataset.id
        self.id = self.another()

    def another(self) -> int:
        """One more experiment of the same cells."""
        with session_of(self.here) as session:
            made = services.create(session, self.panel, self.project, self.dataset, "judge", "x", self.judging)
            return made.id

    def start(self, number: int | None = None) -> None:
        services.start(self.here.database, self.queue, number or self.id)

    def left(self, contender: str | None = None) -> list[str]:
        with session_of(self.here) as session:
            missing = [key for key, *_ in records.missing_cells(session, self.id)]
            cells = self.judging.cells(self.panel)
        return [cell.key for cell in cells if cell.key in missing and contender in (None, cell.name)]

    def compute(self, *keys: str, number: int | None = None) -> str:
        """One job of one group, with what comes after it."""
        job = {"experiment_id": number or self.id, "groups": [list(keys)]}
        outcome = self.work.run(self.here, list(keys), job)
        self.work.end(self.here, job)
        return outcome

    @property
    def state(self) -> str:
        with session_of(self.here) as session:
            return records.get_experiment(session, self.id).state

    @property
    def failures(self) -> list[str]:
        with session_of(self.here) as session:
            return [each["reason"] for each in records.failures_of(session, self.id)]

    @property
    def tally(self) -> dict[str, int]:
        with session_of(self.here) as session:
            return records.tally(session, self.id)


def explode(message: str) -> Any:
    def learn_series(*_: object) -> None:
        raise RuntimeError(message)

    return learn_series


def test_an_unforeseen_error_is_a_row_with_its_reason_and_the_rest_goes_on(
    here: type[Here], queue: Queue, monkeypatch: pytest.MonkeyPatch
) -> None:
    bench = Bench(here, queue, "unforeseen")
    bench.start()
    monkeypatch.setattr(Mean, "learn_series", explode("planted"))
    outcomes = [bench.compute(key) for key in bench.left()]
    assert sorted(outcomes) == ["done"] * 4 + ["failed"] * 2
    assert bench.failures == ["RuntimeError: planted"] * 2
    assert bench.state == "done"
    assert bench.tally == {"cells": 6, "done": 4, "failed": 2}


def test_a_retried_experiment_is_done_when_the_last_has_come_back_and_reasons_are_the_newest(
    here: type[Here], queue: Queue, monkeypatch: pytest.MonkeyPatch
) -> None:
    bench = Bench(here, queue, "retried")
    bench.start()
    with monkeypatch.context() as planted:
        for each in (Mean, Drift):
            planted.setattr(each, "learn_series", explode("first"))
        for key in bench.left():
            bench.compute(key)
    assert bench.state == "done"
    assert bench.failures == ["RuntimeError: first"] * 4
    bench.start()
    assert bench.state == "running"
    assert bench.tally == {"cells": 6, "done": 2, "failed": 0}
    left = bench.left()
    assert len(left) == 4
    monkeypatch.setattr(Drift, "learn_series", explode("second"))
    for place, key in enumerate(left, start=1):
        bench.compute(key)
        assert bench.state == ("running" if place < 4 else "done"), place
    assert bench.failures == ["RuntimeError: second"] * 2
    assert bench.tally == {"cells": 6, "done": 4, "failed": 2}


def test_when_every_cell_failed_so_has_the_experiment(
    here: type[Here], queue: Queue, monkeypatch: pytest.MonkeyPatch
) -> None:
    bench = Bench(here, queue, "all failed", contenders=[{"name": "mean", "forecaster": {"kind": "mean"}}])
    bench.start()
    monkeypatch.setattr(Mean, "learn_series", explode("planted"))
    for key in bench.left():
        bench.compute(key)
    assert bench.state == "failed"
    with session_of(here) as session:
        assert records.get_experiment(session, bench.id).reason == "Every cell failed; see the reasons."


def test_of_cells_computed_together_only_the_guilty_fails(
    here: type[Here], queue: Queue, monkeypatch: pytest.MonkeyPatch
) -> None:
    bench = Bench(here, queue, "together")
    bench.start()
    keys = [bench.left("last_value")[0], bench.left("mean")[0]]
    monkeypatch.setattr(Mean, "learn_series", explode("planted"))
    assert bench.compute(*keys) == "failed"
    assert bench.tally == {"cells": 6, "done": 1, "failed": 1}


def test_stopping_keeps_what_is_done_and_computes_no_more(here: type[Here], queue: Queue) -> None:
    bench = Bench(here, queue, "stopped")
    bench.start()
    with session_of(here) as session:
        assert bench.id in jobs_of(session, CellWork.task, "experiment_id")
    first, second, *_ = bench.left()
    assert bench.compute(first) == "done"
    with session_of(here) as session:
        services.stop(session, queue, bench.id)
    with session_of(here) as session:
        assert bench.id not in jobs_of(session, CellWork.task, "experiment_id")
        assert not bench.work.wanted(session, {"experiment_id": bench.id})
    assert bench.compute(second) == "stopped"
    assert (bench.state, bench.tally["done"]) == ("stopped", 1)
    bench.start()
    with session_of(here) as session:
        assert bench.work.wanted(session, {"experiment_id": bench.id})
    with pytest.raises(ConflictError, match="running already"):
        bench.start()


def test_a_stop_during_a_retry_leaves_the_failures_as_they_were(
    here: type[Here], queue: Queue, monkeypatch: pytest.MonkeyPatch
) -> None:
    bench = Bench(here, queue, "retry stopped")
    bench.start()
    with monkeypatch.context() as planted:
        planted.setattr(Mean, "learn_series", explode("planted"))
        for key in bench.left():
            bench.compute(key)
    bench.start()
    with session_of(here) as session:
        services.stop(session, queue, bench.id)
    assert bench.tally == {"cells": 6, "done": 4, "failed": 2}
    assert bench.failures == ["RuntimeError: planted"] * 2


def test_a_cell_is_computed_once_for_all_experiments_and_processes(
    here: type[Here], queue: Queue, monkeypatch: pytest.MonkeyPatch
) -> None:
    bench = Bench(here, queue, "shared")
    bench.start()
    key = bench.left("mean")[0]
    with here.database.engine.connect() as other:  # another process is at it
        from sqlalchemy import text

        other.execute(text("SELECT pg_advisory_lock(:n)"), {"n": int(key[:15], 16)})
        assert bench.work.run(here, [key], {"experiment_id": bench.id, "groups": [[key]]}) == "skipped"
        other.execute(text("SELECT pg_advisory_unlock_all()"))
    for each in bench.left():
        bench.compute(each)
    again = bench.another()
    monkeypatch.setattr(Mean, "learn_series", explode("must not be asked"))
    bench.start(again)
    with session_of(here) as session:
        assert records.get_experiment(session, again).state == "done"
        assert len(load_results(session, again)) == 6


def test_lost_work_is_found_after_two_quiet_looks(here: type[Here], queue: Queue) -> None:
    bench = Bench(here, queue, "lost")
    bench.start()
    with session_of(here) as session:
        queue.cancel(session, CellWork.task, "experiment_id", bench.id)
    for look in range(2):
        with session_of(here) as session:
            assert bench.id not in jobs_of(session, CellWork.task, "experiment_id"), look
            bench.work.lost(session, queue)
    with session_of(here) as session:
        assert bench.id in jobs_of(session, CellWork.task, "experiment_id")
    bench.work.end(here, {"experiment_id": bench.id, "groups": []})  # the job without groups looks what is left
    with session_of(here) as session:
        queue.cancel(session, CellWork.task, "experiment_id", bench.id)
    for key in bench.left():
        bench.compute(key)
    assert bench.state == "done"


def test_an_experiment_from_before_its_cells_were_told_is_expanded_by_the_runner(
    here: type[Here], queue: Queue
) -> None:
    from sqlalchemy import text

    bench = Bench(here, queue, "older")
    with session_of(here) as session:
        session.execute(text("DELETE FROM experiment_cell WHERE experiment_id = :e"), {"e": bench.id})
    bench.start()
    bench.work.end(here, {"experiment_id": bench.id, "groups": []})
    assert len(bench.left()) == 6
    for key in bench.left():
        bench.compute(key)
    assert bench.state == "done"


def test_running_work_is_told_from_cells(here: type[Here], queue: Queue) -> None:
    bench = Bench(here, queue, "told")
    bench.start()
    bench.compute(bench.left()[0])
    with session_of(here) as session:
        (told,) = bench.work.running(session, bench.project)
        assert (told.id, told.done, told.of) == (bench.id, 1, 6)
        board = boards.board_of(session, records.get_experiment(session, bench.id), bench.panel)
        progress = services.progress_of(session, records.get_experiment(session, bench.id))
    assert [row.cells for row in board] == [1, 0, 0]
    assert progress.seconds_left is not None and progress.seconds_left > 0


def test_folds_that_share_a_fit_learn_once(here: type[Here], queue: Queue, monkeypatch: pytest.MonkeyPatch) -> None:
    """Learned anew every second fold: in between the state moves on, with the same bits as without records."""
    bench = Bench(here, queue, "shared fits", folds={"count": 4, "horizon": 3, "refit": 2})
    bench.start()
    for key in bench.left():
        bench.compute(key)
    with session_of(here) as session:
        results = load_results(session, bench.id, ["mean"])
    assert len({result.cell.fit_key for result in results}) == 2
    report = pt.walk_forward(bench.panel, bench.judging.entrants, bench.judging.folds, levels=())
    for result, fresh in zip(results, [r for r in report.results if r.cell.name == "mean"], strict=True):
        assert result.mean.tobytes() == fresh.mean.tobytes()
    moved = pt.forecaster("mean").fit(bench.panel, until=results[0].cell.place.cutoff)
    second = results[1]
    assert second.mean.tobytes() == moved.means(bench.panel, second.origins, 3)[0].tobytes()


def test_ranges_are_corrected_fold_by_fold_and_equal_the_notebooks(here: type[Here], queue: Queue) -> None:
    """A cell waits for those it needs; one that failed is gone without; then the numbers are the library's."""
    entries = [{"name": how, "forecaster": {"kind": "mean"}, "ranges": how} for how in ("own", "split", "adaptive")]
    bench = Bench(here, queue, "corrected", contenders=entries, levels=[0.5, 0.8],
                  folds={"count": 4, "horizon": 3, "span": 12, "every": 1, "sealed": 1})  # fmt: skip
    bench.start()
    rounds = []
    while True:
        with session_of(here) as session:
            ready = [key for key, *_ in records.missing_cells(session, bench.id)]
        if not ready:
            break
        rounds.append(len(ready))
        for key in ready:
            assert bench.work.run(here, [key], {"experiment_id": bench.id}) == "done"
    assert rounds == [3 + 2, 2, 2]  # all folds of the plain one at once, the corrected ones one after the other
    report = pt.walk_forward(bench.panel, bench.judging.entrants, bench.judging.folds, levels=(0.5, 0.8))
    with session_of(here) as session:
        found = {(each.cell.name, each.cell.fold): each for each in load_results(session, bench.id)}
    for result in report.results:
        stored = found[result.cell.name, result.cell.fold]
        assert stored.cell.key == result.cell.key and np.array_equal(stored.ranges, result.ranges)
    own, split = (np.array([found[name, fold].ranges for fold in range(3)]) for name in ("own", "split"))
    assert not np.array_equal(own[2], split[2]) and np.array_equal(own[0], split[0])
    with session_of(here) as session:
        records.set_state(session, bench.id, "done")
        cells = bench.judging.sealed_cells(bench.panel, "split")
        records.add_cells(session, bench.id, cells)
        ready = [key for key, *_ in records.missing_cells(session, bench.id)]
    assert len(ready) == 2
    for key in ready:
        assert bench.work.run(here, [key], {"experiment_id": bench.id}) == "done"
    sealed = report.break_seal("split")
    with session_of(here) as session:
        found = {(each.cell.name, each.cell.fold): each for each in load_results(session, bench.id)}
    for result in sealed.results:
        assert np.array_equal(found[result.cell.name, 3].ranges, result.ranges)
