"""Outlooks that are ordered, stopped, and drawn anew."""

from sqlalchemy.orm import Session

from proteron.core.errors import SettingsError
from proteron.core.experiment import Judging, OutlookSettings
from proteron.core.forecasters.ahead import Lack, lacking, require_ahead
from proteron.core.outlook import arrays_of, continued
from proteron.core.outlook.limits import Limits
from proteron.core.panel import Panel
from proteron.records import experiments
from proteron.records import outlooks as records
from proteron.records.database import ConflictError, pack_arrays
from proteron.records.datasets import get_dataset
from proteron.records.models import Dataset, Experiment, OutlookRecord
from proteron.records.projects import choose
from proteron.runner.work.outlooks import OutlookWork
from proteron.services.experiments import judging_of
from proteron.services.outlooks.learned import drawn_as, seen_by
from proteron.services.resources import Resources


def order(reach: Resources, experiment_id: int, asked: OutlookSettings, dataset_id: int | None = None) -> OutlookRecord:
    """Queue a refit of one contender; ranges come from its walk-forward errors, or rehearsals where it goes further.

    `dataset_id` is a later version of what it was judged on, which the project then stands on.

    Raises, before anything is queued, `SettingsError` for what does not fit, `TooShortError` where a column that is
    known ahead ends too early.
    """
    with reach.database.session() as session:
        experiment = experiments.get_experiment(session, experiment_id)
        judging = judging_of(experiment)
        judging.entry(str(asked.contender))
        Limits(asked.floor, asked.ceiling, asked.whole)
        chosen = experiment.dataset_id if dataset_id is None else _later(session, experiment, dataset_id)
        panel, horizon = _ahead(reach.panel(chosen), judging, asked)
        require_ahead(panel, judging.entry(str(asked.contender)).contender.forecaster, horizon)
        record = records.add_outlook(session, experiment, asked.document(), chosen)
        stands = {"outlook_id": record.id} | ({} if dataset_id is None else {"dataset_id": chosen})
        choose(session, experiment.project_id, stands)
    reach.queue.defer_outlook(record.id)
    return record


def _later(session: Session, experiment: Experiment, dataset_id: int) -> int:
    """A version of an experiment's data; raises `SettingsError` for other data."""
    found: Dataset | None = get_dataset(session, dataset_id)
    while found is not None and found.id != experiment.dataset_id:
        found = None if found.parent_id is None else session.get(Dataset, found.parent_id)
    if found is None:
        raise SettingsError("This is no later version of the experiment's data.", field="dataset_id")
    return dataset_id


def _ahead(panel: Panel, judging: Judging, asked: OutlookSettings) -> tuple[Panel, int]:
    """What is known for an outlook, with what is ahead as it asks for, and for how many steps."""
    cut = panel.cut_at(asked.until)
    horizon = asked.steps(cut) or judging.folds.horizon
    known = continued(cut, judging.entry(str(asked.contender)).contender, horizon, asked.ahead)
    return (known if asked.scenario is None else asked.scenario.applied(known, horizon)), horizon


def lacks(reach: Resources, experiment_id: int, asked: OutlookSettings, dataset_id: int | None = None) -> list[Lack]:
    """What an outlook would lack of columns that are known ahead, before it is ordered."""
    with reach.database.session() as session:
        experiment = experiments.get_experiment(session, experiment_id)
    judging = judging_of(experiment)
    panel, horizon = _ahead(reach.panel(dataset_id or experiment.dataset_id), judging, asked)
    return lacking(panel, judging.entry(str(asked.contender)).contender.forecaster, horizon)


def stop(reach: Resources, outlook_id: int) -> OutlookRecord:
    """Stop one that is being made; nothing of it is kept."""
    with reach.database.session() as session:
        record = records.get_outlook(session, outlook_id, lock=True)
        if record.state == "queued":
            reach.queue.cancel(session, OutlookWork.task, "outlook_id", outlook_id)
            records.finish_outlook(session, outlook_id, "stopped", reason="Stopped on request.")
        return record


def redraw(reach: Resources, outlook_id: int, seed: int) -> None:
    """Draw its paths anew by another seed; mean and ranges stay as they are."""
    panel, asked = seen_by(reach, outlook_id)
    made = drawn_as(reach, outlook_id, asked.model_copy(update={"seed": seed}), panel)
    with reach.database.session() as session:
        record = records.get_outlook(session, outlook_id, lock=True)
        if record.state != "done":
            raise ConflictError("This outlook is not finished yet.", field="state")
        record.document = {**record.document, "seed": seed}
        record.arrays = pack_arrays(arrays_of(made))
        records.keep_paths(session, outlook_id, made.paths)
        records.finish_outlook(session, outlook_id, "done", record.arrays)
