"""Outlooks: one refit on everything known, once its experiment is finished."""

from typing import TYPE_CHECKING, Any, ClassVar

from sqlalchemy import select
from sqlalchemy.orm import Session

from proteron.records import outlooks as records
from proteron.records.experiments import get_experiment
from proteron.records.models import Experiment, OutlookRecord
from proteron.runner.queue import Queue, jobs_of
from proteron.runner.work.kind import Job, LongWork, Running

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from proteron.runner.child import Here


class OutlookWork(LongWork):
    """A job is one outlook; it waits until its experiment is finished."""

    task: ClassVar[str] = "make_outlook"

    def run(self, here: "type[Here]", step: Any, job: Job) -> str:
        """Refit on everything known and store mean and ranges."""
        outlook_id = job["outlook_id"]
        with here.database.session() as session:
            record = records.get_outlook(session, outlook_id)
            if record.state != "queued" or get_experiment(session, record.experiment_id).state in _GOING:
                return "skipped"
        arrays, paths = _make(here, outlook_id)
        with here.database.session() as session:
            records.keep_paths(session, outlook_id, paths)
            records.finish_outlook(session, outlook_id, "done", arrays)
        return "done"

    def give_up(self, here: "type[Here]", step: Any, reason: str, job: Job) -> None:
        with here.database.session() as session:
            records.finish_outlook(session, job["outlook_id"], "failed", reason=reason)

    def lost(self, session: Session, queue: Queue) -> None:
        """Outlooks wait for their experiment, and survive a lost job."""
        query = (
            select(OutlookRecord.id)
            .join(Experiment, Experiment.id == OutlookRecord.experiment_id)
            .where(OutlookRecord.state == "queued", Experiment.state.not_in(_GOING))
        )
        for outlook_id in set(session.scalars(query)) - jobs_of(session, self.task, "outlook_id"):
            queue.defer_outlook(outlook_id)

    def running(self, session: Session, project_id: int) -> list[Running]:
        query = select(OutlookRecord).where(OutlookRecord.project_id == project_id, OutlookRecord.state == "queued")
        return [Running("outlook", each.id, each.document["contender"], 0, 1) for each in session.scalars(query)]


_GOING = ("queued", "running")


def _make(here: "type[Here]", outlook_id: int) -> "tuple[bytes, NDArray[np.float64]]":
    """The final forecast of an outlook, as packed arrays, and its paths."""
    import numpy as np

    from proteron.core.experiment import Judging, OutlookSettings
    from proteron.records.database import pack_arrays
    from proteron.records.results import load_results

    with here.database.session() as session:
        record = records.get_outlook(session, outlook_id)
        experiment = get_experiment(session, record.experiment_id)
        panel = here.panels.get(session, experiment.dataset_id)
        judging, asked = Judging.parse(experiment.document), OutlookSettings.parse(record.document)
        results = load_results(session, experiment.id, [str(asked.contender)])
    made = asked.made(panel, judging.entry(str(asked.contender)).contender, results, judging)
    held, of = made.held
    arrays = {
        "mean": made.mean, "origin": np.array(made.origin), "held": held, "held of": of,
        "errors": made.errors.counts(), "how": np.array(made.how),
        "notes": np.array(made.notes, dtype=str), "drawn": np.array(len(made.paths)),
    }  # fmt: skip
    arrays |= {f"lower {level}": bound for level, bound in made.lower.items()}
    arrays |= {f"upper {level}": bound for level, bound in made.upper.items()}
    return pack_arrays(arrays), made.paths
