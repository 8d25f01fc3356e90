"""How cells become jobs."""

import json

import numpy as np

from proteron.core.forecasters.forecaster import Progress
from proteron.runner.work.cells import _AT_ONCE, _JOBS_AHEAD, _WORK_PER_JOB, shared_out, told_of


def test_what_is_done_at_once_goes_first_then_the_heaviest_in_ever_smaller_jobs() -> None:
    rng = np.random.default_rng(1)
    works = {str(place): float(work) for place, work in enumerate(rng.uniform(2 * _AT_ONCE, 3e6, 120))}
    works |= {"naive": _AT_ONCE, "last": 1.0}
    jobs = shared_out(works)
    order = [batch for job in jobs for batch in job]
    assert sorted(order) == sorted(works) and order[:2] == ["naive", "last"]
    weights = [works[batch] for batch in order[2:]]
    assert weights == sorted(weights, reverse=True)
    left = sum(works.values())
    for job in jobs:
        weight = sum(works[batch] for batch in job)
        assert len(job) == 1 or weight <= min(_WORK_PER_JOB, left / _JOBS_AHEAD)
        left -= weight
    assert len(jobs[0]) > 2 and len(jobs[-1]) == 1
    assert shared_out({"huge": 50 * _WORK_PER_JOB, "other": 1.0}) == [["other"], ["huge"]]
    assert shared_out({}) == []


def test_two_processes_end_at_about_the_same_time() -> None:
    rng = np.random.default_rng(2)
    works = {str(place): float(work) for place, work in enumerate(rng.exponential(3e6, 72))}
    free = [0.0, 0.0]
    for job in shared_out(works):
        first = int(np.argmin(free))
        free[first] += sum(works[batch] for batch in job)
    assert max(free) <= 1.02 * sum(works.values()) / 2


def test_pages_hear_of_a_fit_in_few_words() -> None:
    losses = tuple(1 / (place + 1) for place in range(1000))
    told = told_of(Progress(0.51234, "tree " * 100, losses, losses[:-1], "trees", 3))
    assert told["share"] == 0.512 and len(told["about"]) == 200 and (told["contender"], told["fold"]) == ("trees", 3)
    assert len(told["epochs"]) == len(told["learned"]) == len(told["held_out"]) <= 50
    assert told["epochs"][0] == 1 and told["epochs"][-1] == 999 and told["learned"][0] == 1.0
    assert told["epochs"] == sorted(set(told["epochs"])) and len(json.dumps(told)) < 4000
    bad = told_of(Progress(0.1, "x", (1.0, float("nan"), 3.0), (1.0, 2.0, 3.0)))
    assert bad["epochs"] == [1, 3] and bad["held_out"] == [1.0, 3.0]
    none = told_of(Progress(0.1, "x"))
    assert none["epochs"] == none["learned"] == none["held_out"] == [] and none["fold"] is None
    alone = told_of(Progress(0.1, "x", (2.0, 1.0)))
    assert alone["epochs"] == [1, 2] and alone["held_out"] == []
