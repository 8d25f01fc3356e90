"""Outlooks held to what they promised, once later versions of the data have brought the truth."""

from dataclasses import dataclass

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from proteron.core.outlook.fared import Fared, came, fared
from proteron.records import outlooks as records
from proteron.records.models import Dataset, OutlookRecord
from proteron.records.projects import get_project
from proteron.services.outlooks import shown
from proteron.services.outlooks.shown import Made
from proteron.services.resources import Resources, Shelf

_KEPT = 60


@dataclass(frozen=True)
class Held:
    """How an outlook fared by the newest version of its data, and whether that is newer than what it was made from."""

    made: Made
    dataset: Dataset
    newer: bool
    fared: Fared

    @property
    def when(self) -> list[str]:
        """Local times of its steps."""
        local = self.made.panel.axis.local(self.made.origin + np.arange(self.made.horizon))
        return [str(each).replace("T", " ")[:16] for each in local]

    @property
    def sentence(self) -> str:
        """The verdict in words."""
        return self.fared.in_words(self.made.panel.keys, self.when)


def newest(session: Session, dataset_id: int) -> Dataset:
    """The newest version with the same step that descends from a version of the data; itself where there is none."""
    found = first = session.get_one(Dataset, dataset_id)
    query = select(Dataset).where(Dataset.project_id == first.project_id, Dataset.id > first.id)
    mine = {first.id}
    for each in session.scalars(query.order_by(Dataset.id)).all():
        if each.parent_id in mine:
            mine.add(each.id)
            if each.deleted is None and each.layout["step"] == first.layout["step"]:
                found = each
    return found


def newer(reach: Resources, dataset_id: int) -> int | None:
    """The newest version that descends from a version of the data, where there is one."""
    with reach.database.session() as session:
        found = newest(session, dataset_id).id
    return None if found == dataset_id else found


def held_to(reach: Resources, record: OutlookRecord) -> Held | None:
    """How an outlook fared, its arrays loaded or not; None for one that is not made, or that was made before its paths
    were kept."""
    if record.state != "done":
        return None
    with reach.database.session() as session:
        latest = newest(session, record.dataset_id)
    shelf: Shelf[tuple[int, int, object], Held | None] = reach.open("held to", lambda: Shelf(_KEPT))

    def look() -> Held | None:
        _, made = shown.load(reach, record.id)
        if made is None or not made.paths:
            return None
        with reach.database.session() as session:
            paths = records.paths_of(session, record.id, made.horizon)
        times = made.panel.axis.times(made.origin + np.arange(made.horizon))
        truth = came(times, made.panel.keys, reach.panel(latest.id))
        with reach.computing():
            found = fared(made.arrays["mean"], paths, made.ranges(), truth)
        return Held(made, latest, latest.id != record.dataset_id, found)

    return shelf.get((record.id, latest.id, record.document.get("seed")), look)


def earlier(reach: Resources, project_id: int) -> list[tuple[OutlookRecord, Held | None]]:
    """The outlooks of a project, the newest first, each with how it fared where that can be told."""
    with reach.database.session() as session:
        get_project(session, project_id)
        found = records.outlooks_of(session, project_id)
    return [(each, held_to(reach, each)) for each in found]
