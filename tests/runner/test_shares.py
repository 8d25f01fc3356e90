"""How cells become jobs."""

import numpy as np

from proteron.runner.work.cells import _AT_ONCE, _JOBS_AHEAD, _WORK_PER_JOB, shared_out


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
