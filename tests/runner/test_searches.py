"""Searches by the runner: the same as in a notebook, whatever is killed; what is found is entered with normal cells."""

from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np
import pytest
from test_cell_work import Desk, here, queue, session_of  # noqa: F401

import proteron as pt
from proteron.core.experiment import Judging
from proteron.core.forecasters.theta import Theta
from proteron.core.intake import TableReading
from proteron.core.search import SearchSettings
from proteron.records import experiments as records
from proteron.records import searches
from proteron.records.configuration import Configuration
from proteron.records.copies import copy_kept
from proteron.records.database import ConflictError
from proteron.records.datasets import save_dataset
from proteron.records.projects import create_project, delete_project
from proteron.runner.child import Here
from proteron.runner.queue import Queue
from proteron.runner.slot import TOOK_TOO_LONG
from proteron.runner.work.cells import CellWork
from proteron.services import experiments as services
from proteron.services import searches as rooms
from proteron.services.resources import Resources

SPACE = {"families": [
    {"forecaster": {"kind": "theta"}}, {"forecaster": {"kind": "seasonal_mean"}},
    {"forecaster": {"kind": "ridge", "plan": {"lags": list(range(1, 13))}},
     "ranges": [{"setting": "strength", "low": 0.01, "high": 100, "log": True}]},
]}  # fmt: skip
FOLDS = {"count": 5, "horizon": 6, "sealed": 1}


class Bench:
    """An experiment that searches, on data of its own; jobs are done here, one after the other."""

    def __init__(self, here: type[Here], queue: Queue, name: str, **settings: Any) -> None:  # noqa: F811
        rng, month = np.random.default_rng(list(name.encode())), np.arange(84)
        self.panel = pt.Panel.from_arrays(
            {key: 80 + 9 * np.sin(month * np.pi / 6) + rng.normal(size=84) for key in "ab"}, "2017-01-01", "1 month"
        )
        self.here, self.queue, self.work = here, queue, CellWork()
        entries = [{"name": "naive", "forecaster": {"kind": "seasonal_last_value"}}]
        self.judging = Judging.parse({"folds": FOLDS, "contenders": entries})
        self.settings = SearchSettings.parse({"fits": 45, "space": SPACE, **settings})
        with session_of(here) as session:
            delete_project(session, name)
            project = create_project(session, name)
            self.dataset = save_dataset(session, project.id, "d", TableReading(self.panel, (), {})).id
            self.project = project.id
        self.reach = Resources(Configuration(), here.url)
        self.id = services.create_and_start(
            self.reach, self.project, self.dataset, "judge", "x", self.judging, search=self.settings
        )

    def round(self, most: int = 1000) -> int:
        """Compute what is missing, at most so many cells, and what comes after it; how many there were."""
        with session_of(self.here) as session:
            missing = [key for key, *_ in records.missing_cells(session, self.id)][:most]
        for key in missing:
            self.work.run(self.here, [key], {"experiment_id": self.id})
        self.work.end(self.here, {"experiment_id": self.id, "groups": []})
        return len(missing)

    def finish(self) -> None:
        for _ in range(60):
            if self.state != "running":
                return
            self.round()
        raise AssertionError("it does not end")

    @property
    def state(self) -> str:
        with session_of(self.here) as session:
            return records.get_experiment(session, self.id).state

    @property
    def facts(self) -> rooms.SearchFacts:
        return rooms.facts_of(self.reach, self.id)

    @property
    def judged(self) -> Judging:
        with session_of(self.here) as session:
            return services.judging_of(records.get_experiment(session, self.id))

    def alone(self, **more: Any) -> pt.SearchReport:
        """The same search in this process."""
        settings = {"fits": 45, "space": self.settings.space, "baseline": pt.forecaster("seasonal_last_value"), **more}
        return pt.search(self.panel, folds=self.judging.folds, **settings)


def found_settings(session: Any, bench: Bench) -> Any:
    return records.get_experiment(session, bench.id).search


def named(trials: Any) -> list[Any]:
    return [(each.name, each.contender.hash, dict(each.errors), each.state, each.fits) for each in trials]


@pytest.fixture
def bench(here: type[Here], queue: Queue, request: pytest.FixtureRequest) -> Iterator[Bench]:  # noqa: F811
    made = Bench(here, queue, request.node.name)
    yield made
    made.reach.queue.close()


def test_it_ends_as_a_search_in_a_notebook_does_and_enters_the_best_with_its_blend(bench: Bench) -> None:
    bench.finish()
    found, alone = bench.facts, bench.alone()
    assert bench.state == "done" == found.state and found.fits == alone.fits
    assert named(found.trials) == named(alone.trials)
    assert found.best == alone.best_name and found.blend_name == alone.blend_name
    for key, each in found.weights.items():
        assert dict(zip(found.blended, each, strict=True)) == pytest.approx(alone.weights[key])
    entered = bench.judged.entrants
    assert {alone.best_name, alone.blend_name, *found.blended} | {"naive"} == set(entered)
    bench.finish()
    with session_of(bench.here) as session:
        tally = records.tally(session, bench.id)
        board = {row.contender: row.skill for row in rooms.boards.board_of(
            session, records.get_experiment(session, bench.id), bench.panel)}  # fmt: skip
        used = rooms.boards.used_before(session, records.get_experiment(session, bench.id), bench.panel)
        copy = copy_kept(session, "experiments", bench.id, None)
        assert copy.search == found_settings(session, bench) and copy.race["state"] == "done"
    assert used.startswith(f"A search tried {len(found.trials)} candidates on this time")
    assert tally["done"] == tally["cells"] and board[alone.blend_name or ""] == pytest.approx(
        alone.board.row(alone.blend_name or "").skill
    )
    said = bench.facts.text.replace("naive", alone.report.baseline)
    assert said.split(" s.")[1] == alone.summary.split(" s.")[1]


def test_killed_again_and_again_and_gone_on_with_it_is_the_same(bench: Bench, monkeypatch: pytest.MonkeyPatch) -> None:
    rng = np.random.default_rng(2)
    for _ in range(200):
        if bench.state != "running":
            break
        bench.round(int(rng.integers(1, 4)))
        if rng.random() < 0.3:
            with session_of(bench.here) as session:
                services.stop(session, bench.queue, bench.id)
            assert bench.facts.state == "stopped" == bench.state
            services.start(bench.here.database, bench.queue, bench.id)
    assert named(bench.facts.trials) == named(bench.alone().trials) and bench.state == "done"
    rooms.begin_and_start(bench.reach, bench.id, bench.settings.model_copy(update={"fits": 60, "space": None}))
    with pytest.raises(ConflictError):
        rooms.begin_and_start(bench.reach, bench.id, bench.settings)
    bench.finish()
    assert named(bench.facts.trials) == named(bench.alone(fits=60).trials)


def test_out_of_time_it_keeps_what_is_there_and_nothing_waits(bench: Bench) -> None:
    for _ in range(4):
        bench.round()
    with session_of(bench.here) as session:
        experiment = records.get_experiment(session, bench.id)
        experiment.search = {**(experiment.search or {}), "seconds": 10.0}
        job = {"experiment_id": bench.id, "limit": 2.0}
        assert bench.work.wanted(session, job) and bench.work.limit(job) == 2.0 and searches.limit_of(experiment) == 60
        for late, wanted in ((10.1, True), (11, False)):
            since = datetime.now(UTC) - timedelta(seconds=late)
            experiment.race = {**(experiment.race or {}), "since": since.isoformat(), "spent": 0.0}
            session.flush()
            assert bench.work.wanted(session, job) == wanted and searches.out_of_time(experiment)
        assert bench.work.wanted(session, {"experiment_id": bench.id})  # entrants have all the time they need
    bench.work.end(bench.here, {"experiment_id": bench.id, "groups": []})
    bench.finish()
    found = bench.facts
    assert bench.state == "done" == found.state and 10 < found.spent < 12
    assert named(found.trials) == named(bench.alone(fits=found.fits).trials)
    with session_of(bench.here) as session:
        assert records.missing_cells(session, bench.id) == []


def test_what_stalls_or_fails_is_named_and_its_family_left(bench: Bench, monkeypatch: pytest.MonkeyPatch) -> None:
    def crash(*_: object) -> None:
        raise ValueError("planted")

    monkeypatch.setattr(Theta, "learn", crash)
    bench.round()
    with session_of(bench.here) as session:
        (stalled,) = [key for key, *_, name in records.missing_cells(session, bench.id) if name == "seasonal mean"]
    bench.work.give_up(bench.here, [stalled], f"{TOOK_TOO_LONG} of 2 s and was stopped.", {"experiment_id": bench.id})
    bench.finish()
    states = {each.name: (each.state, each.reason) for each in bench.facts.trials}
    assert states["theta"] == ("failed", "ValueError: planted") and states["seasonal mean"][0] == "stalled"
    assert bench.state == "done" and bench.facts.best is not None and bench.facts.best.startswith("ridge")


def test_candidates_are_taken_to_the_board_while_it_runs_and_only_whole_ones(bench: Bench) -> None:
    while len(bench.facts.blended) < 2:
        bench.round()
    found = bench.facts
    assert bench.state == "running" and "naive" in bench.judged.entrants and found.blend_name is not None
    dropped = [each.name for each in found.trials if each.state != "kept"]
    with pytest.raises(pt.SettingsError, match="not been judged on all folds"):
        rooms.take(bench.reach, bench.id, dropped[:1])
    rooms.take(bench.reach, bench.id, [found.blend_name])
    assert set(bench.judged.entrants) == {"naive", found.blend_name, *found.blended}
    bench.finish()
    assert named(bench.facts.trials) == named(bench.alone().trials)
    with pytest.raises(pt.SettingsError, match="does not search"):
        other = services.create_and_start(bench.reach, bench.project, bench.dataset, "judge", "y", bench.judging, False)
        rooms.facts_of(bench.reach, other)


def test_a_space_hears_nothing_of_what_is_judged(bench: Bench) -> None:
    first = bench.judging.folds.resolve(bench.panel)[0].cutoff
    spoiled = bench.panel.with_values(np.tile(np.r_[bench.panel.series(0)[:first], np.full(84 - first, -9.0)], 2))
    known = bench.panel.with_values(np.tile(bench.panel.series(0), 2))
    assert services.space_for(bench.judging, spoiled) == services.space_for(bench.judging, known)
    there = {each.forecaster.kind: each for each in rooms.space_of(bench.reach, bench.id).families}
    assert len(there["smoothing"].chains) == 2  # on logarithms, too
