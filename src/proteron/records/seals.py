"""Seals that were broken: every one is kept, whatever becomes of the experiment."""

from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from proteron.records.database import ConflictError
from proteron.records.models import Dataset, Experiment, SealBreaking


def root_of(session: Session, dataset_id: int) -> str:
    """Hash of the first version that a version of the data came from: what was seen there is seen in all of them."""
    dataset = session.get(Dataset, dataset_id)
    assert dataset is not None
    while dataset.parent_id is not None and (parent := session.get(Dataset, dataset.parent_id)) is not None:
        dataset = parent
    return dataset.hash


def break_seal(
    session: Session, experiment: Experiment, contender: str, first: datetime, last: datetime
) -> SealBreaking:  # fmt: skip
    """Keep that a contender's numbers from `first` to `last` are looked at; raises `ConflictError` the second time."""
    if contender in {each.contender for each in broken_in(session, experiment.id)}:
        raise ConflictError(f"The seal is broken for {contender} already.", field="contender")
    found = SealBreaking(
        project_id=experiment.project_id, root=root_of(session, experiment.dataset_id), experiment_id=experiment.id,
        contender=contender, first=first, last=last,
    )  # fmt: skip
    session.add(found)
    session.flush()
    return found


def broken_in(session: Session, experiment_id: int) -> list[SealBreaking]:
    """Of one experiment, in the order they were broken."""
    query = select(SealBreaking).where(SealBreaking.experiment_id == experiment_id)
    return list(session.scalars(query.order_by(SealBreaking.id)))


def broken_on(
    session: Session, experiment: Experiment, first: datetime, last: datetime
) -> list[SealBreaking]:  # fmt: skip
    """All that looked at any of the time from `first` to `last` in any version of the data, by whatever experiment."""
    query = select(SealBreaking).where(
        SealBreaking.project_id == experiment.project_id,
        SealBreaking.root == root_of(session, experiment.dataset_id),
        SealBreaking.first <= last,
        SealBreaking.last >= first,
    )
    return list(session.scalars(query.order_by(SealBreaking.id)))
