"""Chains that were given a name, chains as they were fitted, and the features of panels."""

from sqlalchemy import select
from sqlalchemy.orm import Session

from proteron.core.documents import content_hash
from proteron.records.database import NotFoundError
from proteron.records.models import Document, FittedChainRecord, SavedChain


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
