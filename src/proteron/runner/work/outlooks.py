"""Outlooks: one refit on everything known, once its experiment is finished."""

import time
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
        """Refit on everything known and store mean, ranges, paths, and what was learned."""
        outlook_id = job["outlook_id"]
        with here.database.session() as session:
            record = records.get_outlook(session, outlook_id)
            if record.state != "queued" or get_experiment(session, record.experiment_id).state in _GOING:
                return "skipped"
        from proteron.core.errors import StoppedError

        try:
            arrays, paths, learned = _make(here, outlook_id)
        except StoppedError:
            return "stopped"
        with here.database.session() as session:
            record = records.get_outlook(session, outlook_id, lock=True)
            if record.state != "queued":
                return "stopped"
            records.keep_paths(session, outlook_id, paths)
            if record.of_id is None:  # a scenario forecasts by what its outlook learned
                records.keep_learned(session, outlook_id, learned)
            records.finish_outlook(session, outlook_id, "done", arrays)
        return "done"

    def give_up(self, here: "type[Here]", step: Any, reason: str, job: Job) -> None:
        with here.database.session() as session:
            records.finish_outlook(session, job["outlook_id"], "failed", reason=reason)

    def wanted(self, session: Session, job: Job) -> bool:
        return session.scalar(select(OutlookRecord.state).where(OutlookRecord.id == job["outlook_id"])) == "queued"

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
        return [
            Running("outlook", each.id, each.document["contender"], round(100 * each.share), 100)
            for each in session.scalars(query)
        ]  # fmt: skip


_GOING = ("queued", "running")
_TELL_EVERY = 0.5


def _make(here: "type[Here]", outlook_id: int) -> "tuple[bytes, NDArray[np.float64], bytes]":
    """The final forecast of an outlook, as packed arrays, its paths, and what it learned; told of on the way."""
    from proteron.core.experiment import Judging, OutlookSettings
    from proteron.core.outlook import arrays_of
    from proteron.core.outlook.learned import learned_by, learned_bytes
    from proteron.records.database import pack_arrays
    from proteron.records.results import load_results

    with here.database.session() as session:
        record = records.get_outlook(session, outlook_id)
        experiment = get_experiment(session, record.experiment_id)
        panel = here.panels.get(session, record.dataset_id)
        judging, asked = Judging.parse(experiment.document), OutlookSettings.parse(record.document)
        judged = (
            panel if record.dataset_id == experiment.dataset_id else here.panels.get(session, experiment.dataset_id)
        )
        alike = judged.axis == panel.axis and judged.keys == panel.keys and (judged.starts == panel.starts).all()
        results = load_results(session, experiment.id, [str(asked.contender)]) if alike else []
    told, wanted = [time.monotonic()], [True]

    def tell(share: float) -> None:
        if time.monotonic() - told[0] < _TELL_EVERY:
            return
        told[0] = time.monotonic()
        with here.database.session() as session:
            wanted[0] = records.tell_share(session, outlook_id, round(share, 3))

    contender = judging.entry(str(asked.contender)).contender
    made = asked.made(panel, contender, results, judging, progress=tell, stop_asked=lambda: not wanted[0])
    return pack_arrays(arrays_of(made)), made.paths, learned_bytes(learned_by(made))
