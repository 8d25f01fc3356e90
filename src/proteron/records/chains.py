"""Chains that were given a name, chains as they were fitted, and the features of panels."""

from collections.abc import Sequence
from typing import Any

from sqlalchemy import delete, func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from proteron.core.documents import content_hash
from proteron.records.database import ConflictError, NotFoundError, notify
from proteron.records.models import Dataset, Document, FittedChainRecord, PanelProfile, SavedChain, SeriesFeature


def saved_chains(session: Session, project_id: int) -> list[SavedChain]:
    query = select(SavedChain).where(SavedChain.project_id == project_id).order_by(SavedChain.name)
    return list(session.scalars(query))


def save_chain(session: Session, project_id: int, name: str, document: Document) -> SavedChain:
    """Keep a chain under a name; the same name again replaces it."""
    found = session.scalar(select(SavedChain).where(SavedChain.project_id == project_id, SavedChain.name == name))
    if found is None:
        found = SavedChain(project_id=project_id, name=name, document=document)
        session.add(found)
    found.document = document
    session.flush()
    return found


def delete_chain(session: Session, project_id: int, chain_id: int) -> None:
    found = session.get(SavedChain, chain_id)
    if found is None or found.project_id != project_id:
        raise NotFoundError(f"There is no saved chain {chain_id}.")
    session.delete(found)


def fitted_chains(session: Session, dataset_id: int) -> list[FittedChainRecord]:
    query = (
        select(FittedChainRecord)
        .where(FittedChainRecord.dataset_id == dataset_id)
        .order_by(FittedChainRecord.id.desc())
    )
    return list(session.scalars(query))


def get_fitted_chain(session: Session, fitted_id: int) -> FittedChainRecord:
    found = session.get(FittedChainRecord, fitted_id)
    if found is None:
        raise NotFoundError(f"There is no fitted chain {fitted_id}.")
    return found


def store_fitted_chain(session: Session, dataset_id: int, name: str, document: Document) -> FittedChainRecord:
    """Keep a fitted chain with its dataset version; the same content again is the same record."""
    key = content_hash({"fitted": document["fitted"], "dataset": document["dataset"]})
    found = session.scalar(
        select(FittedChainRecord).where(FittedChainRecord.dataset_id == dataset_id, FittedChainRecord.hash == key)
    )
    if found is None:
        found = FittedChainRecord(dataset_id=dataset_id, hash=key, document=document)
        session.add(found)
    found.name = name or document.get("name") or "chain"
    session.flush()
    return found


# the features of a panel


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
