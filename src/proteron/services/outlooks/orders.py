"""Outlooks that are ordered, stopped, and drawn anew."""

from sqlalchemy.orm import Session

from proteron.core.errors import SettingsError
from proteron.core.experiment import OutlookSettings
from proteron.core.forecasters import Forecaster
from proteron.core.forecasters.ahead import Lack, lacking, require_ahead
from proteron.core.outlook import arrays_of, continued
from proteron.core.outlook.limits import Limits
from proteron.core.panel import Panel
from proteron.records import experiments
from proteron.records import outlooks as records
from proteron.records.database import pack_arrays
from proteron.records.datasets import get_dataset
from proteron.records.models import Dataset, Experiment, OutlookRecord
from proteron.records.projects import choose
from proteron.runner.work.outlooks import OutlookWork
from proteron.services.experiments import judging_of
from proteron.services.outlooks import held_to, shown
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
        Limits(asked.floor, asked.ceiling, asked.whole)
        require_ahead(*_ahead(reach, session, experiment, asked, dataset_id))
        record = records.add_outlook(session, experiment, asked.document(), dataset_id)
        stands = {"outlook_id": record.id} | ({} if dataset_id is None else {"dataset_id": dataset_id})
        choose(session, experiment.project_id, stands)
    reach.queue.defer_outlook(record.id)
    return record


def refit(reach: Resources, outlook_id: int) -> OutlookRecord:
    """Queue an outlook as an earlier one was asked for, as far ahead, on the newest version of its data and all of it.

    Raises what `order` does.
    """
    made = shown.made(reach, outlook_id)
    new = {"until": None, "to": None, "scenario": None, "horizon": made.horizon}
    asked = OutlookSettings.parse(made.record.document).model_copy(update=new)
    return order(reach, made.record.experiment_id, asked, held_to.newer(reach, made.record.dataset_id))


def _require_later(session: Session, experiment: Experiment, dataset_id: int) -> None:
    """Raise `SettingsError` for other data than a version of an experiment's."""
    found: Dataset | None = get_dataset(session, dataset_id)
    while found is not None and found.id != experiment.dataset_id:
        found = None if found.parent_id is None else session.get(Dataset, found.parent_id)
    if found is None:
        raise SettingsError("This is no later version of the experiment's data.", field="dataset_id")


def _ahead(
    reach: Resources, session: Session, experiment: Experiment, asked: OutlookSettings, dataset_id: int | None = None
) -> tuple[Panel, Forecaster, int]:
    """What is known for an outlook, with what is ahead as it asks for; by whom, and for how many steps."""
    if dataset_id is not None:
        _require_later(session, experiment, dataset_id)
    judging = judging_of(experiment)
    contender = judging.entry(str(asked.contender)).contender
    cut = reach.panel(dataset_id or experiment.dataset_id).cut_at(asked.until)
    horizon = asked.steps(cut) or judging.folds.horizon
    known = continued(cut, contender, horizon, asked.ahead)
    as_said = known if asked.scenario is None else asked.scenario.applied(known, horizon)
    return as_said, contender.forecaster, horizon


def lacks(reach: Resources, experiment_id: int, asked: OutlookSettings) -> list[Lack]:
    """What an outlook would lack of columns that are known ahead, before it is ordered."""
    with reach.database.session() as session:
        experiment = experiments.get_experiment(session, experiment_id)
        return lacking(*_ahead(reach, session, experiment, asked))


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
        records.keep_paths(session, outlook_id, made.paths)
        records.draw_anew(session, outlook_id, seed, pack_arrays(arrays_of(made)))
