"""The features of panels as of a cutoff."""

from collections.abc import Sequence
from typing import Any

from sqlalchemy import delete, func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from proteron.records.database import ConflictError, NotFoundError, notify
from proteron.records.models import Dataset, Document, PanelProfile, SeriesFeature


def find_profile(session: Session, dataset_id: int, until: int | None, version: int) -> PanelProfile | None:
    """The features as of `until`, or the ones computed last."""
    query = select(PanelProfile).where(PanelProfile.dataset_id == dataset_id, PanelProfile.version == version)
    if until is not None:
        query = query.where(PanelProfile.until == until)
    return session.scalar(query.order_by(PanelProfile.id.desc()).limit(1))


def begin_profile(session: Session, dataset_id: int, until: int, version: int, series: int) -> PanelProfile:
    """The features of a panel as of `until`, to be computed unless they are there; a stopped one goes on."""
    values = {"dataset_id": dataset_id, "until": until, "version": version, "series": series, "state": "running"}
    session.execute(insert(PanelProfile).values(**values).on_conflict_do_nothing())
    found = find_profile(session, dataset_id, until, version)
    if found is None:
        raise ConflictError("The features of this panel cannot be computed now.")
    if found.state in ("stopped", "failed"):
        found.state, found.reason = "running", None
    session.flush()
    return found


def get_profile(session: Session, profile_id: int, lock: bool = False) -> PanelProfile:
    found = session.get(PanelProfile, profile_id, with_for_update=lock or None)
    if found is None:
        raise NotFoundError(f"There is no panel profile {profile_id}.")
    return found


def missing_series(session: Session, profile: PanelProfile) -> list[int]:
    """Series whose features are not stored yet."""
    there = set(session.scalars(select(SeriesFeature.series).where(SeriesFeature.profile_id == profile.id)))
    return [series for series in range(profile.series) if series not in there]


def store_features(session: Session, profile_id: int, rows: Sequence[tuple[int, Document]]) -> None:
    """Write the features of some series, once each, and tell the project's pages."""
    values: list[dict[str, Any]] = [{"profile_id": profile_id, "series": at, "features": row} for at, row in rows]
    if values:
        session.execute(insert(SeriesFeature).values(values).on_conflict_do_nothing())
    profile = get_profile(session, profile_id, lock=True)
    count = select(func.count()).select_from(SeriesFeature).where(SeriesFeature.profile_id == profile_id)
    if profile.state == "running" and (session.scalar(count) or 0) >= profile.series:
        profile.state = "done"
    tell_profile(session, profile)


def end_profile(session: Session, profile_id: int, state: str, reason: str | None = None) -> PanelProfile:
    """Stop, or give up; what is stored stays."""
    profile = get_profile(session, profile_id, lock=True)
    if profile.state == "running":
        profile.state, profile.reason = state, reason
    tell_profile(session, profile)
    return profile


def tell_profile(session: Session, profile: PanelProfile) -> None:
    dataset = session.get(Dataset, profile.dataset_id)
    if dataset is not None:
        notify(session, {"project": dataset.project_id, "profile": profile.dataset_id})


def features_of(session: Session, profile_id: int) -> list[SeriesFeature]:
    query = select(SeriesFeature).where(SeriesFeature.profile_id == profile_id).order_by(SeriesFeature.series)
    return list(session.scalars(query))


def forget_profiles(session: Session, dataset_id: int, keep: int) -> None:
    """Drop all but the last `keep` finished profiles of a dataset."""
    query = select(PanelProfile.id).where(PanelProfile.dataset_id == dataset_id, PanelProfile.state == "done")
    old = list(session.scalars(query.order_by(PanelProfile.id.desc()).offset(keep)))
    if old:
        session.execute(delete(PanelProfile).where(PanelProfile.id.in_(old)))
