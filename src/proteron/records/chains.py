"""Chains and plans that were given a name, and chains as they were fitted."""

from sqlalchemy import select
from sqlalchemy.orm import Session

from proteron.core.documents import content_hash
from proteron.records.database import NotFoundError
from proteron.records.kept import Kind
from proteron.records.models import Document, FittedChainRecord, Saved


def saved_of(session: Session, project_id: int, kind: Kind) -> list[Saved]:
    """Chains, or plans, that were given a name in a project, by their names."""
    query = select(Saved).where(Saved.project_id == project_id, Saved.kind == kind, Saved.deleted.is_(None))
    return list(session.scalars(query.order_by(Saved.name)))


def save(session: Session, project_id: int, kind: Kind, name: str, document: Document) -> Saved:
    """Keep a chain, or a plan, under a name; the same name again replaces it."""
    found = next((each for each in saved_of(session, project_id, kind) if each.name == name), None)
    if found is None:
        found = Saved(project_id=project_id, kind=kind, name=name, document=document)
        session.add(found)
    elif found.document != document:
        found.document = document
        found.change("document")
    session.flush()
    return found


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
