"""The features of a panel as of a cutoff: begun, gone on with, stopped, read."""

from proteron.core.profile.features import VERSION
from proteron.records import profiles as records
from proteron.records.models import PanelProfile, SeriesFeature
from proteron.runner.work.features import enqueue_features
from proteron.services.resources import Resources

_KEPT = 8


def start(reach: Resources, dataset_id: int, until: int) -> None:
    """Compute, or continue to compute, the features of every series as known at grid position `until`."""
    series = len(reach.panel(dataset_id))
    with reach.database.session() as session:
        records.forget_profiles(session, dataset_id, keep=_KEPT)
        number = records.begin_profile(session, dataset_id, until, VERSION, series).id
    with reach.database.session() as session:  # only what is committed can be found by the worker that takes a job
        profile = records.get_profile(session, number)
        if profile.state == "running":
            enqueue_features(session, reach.queue, profile)


def stop(reach: Resources, dataset_id: int, until: int) -> None:
    """What is computed stays and can be gone on with."""
    with reach.database.session() as session:
        found = records.find_profile(session, dataset_id, until, VERSION)
        if found is not None:
            records.end_profile(session, found.id, "stopped")


def find(reach: Resources, dataset_id: int, until: int | None) -> tuple[PanelProfile, list[SeriesFeature]] | None:
    """The features as of `until`, or those computed last, partial while they are computed."""
    with reach.database.session() as session:
        found = records.find_profile(session, dataset_id, until, VERSION)
        return None if found is None else (found, records.features_of(session, found.id))
