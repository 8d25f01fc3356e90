"""Flags of scans, with their verdicts."""

from collections.abc import Sequence
from datetime import UTC, datetime

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from proteron.core.anomalies import Flag
from proteron.records.database import NotFoundError
from proteron.records.models import AnomalyFlag


def replace_flags(session: Session, experiment_id: int, series: int, flags: Sequence[Flag]) -> list[AnomalyFlag]:
    """Store the flags of one series at a new threshold; verdicts on spans that stay are kept."""
    old = {(flag.start, flag.stop): flag.verdict for flag in flags_of(session, experiment_id, series)}
    session.execute(delete(AnomalyFlag).where(AnomalyFlag.experiment_id == experiment_id, AnomalyFlag.series == series))
    fresh = [
        AnomalyFlag(
            experiment_id=experiment_id,
            series=series,
            start=flag.start,
            stop=flag.stop,
            time=datetime.fromisoformat(flag.time).replace(tzinfo=UTC),
            score=flag.score,
            kind=flag.kind,
            verdict=old.get((flag.start, flag.stop), "open"),
        )
        for flag in flags
    ]
    session.add_all(fresh)
    session.flush()
    return fresh


def flags_of(session: Session, experiment_id: int, series: int | None = None) -> list[AnomalyFlag]:
    query = select(AnomalyFlag).where(AnomalyFlag.experiment_id == experiment_id).order_by(AnomalyFlag.time)
    return list(session.scalars(query if series is None else query.where(AnomalyFlag.series == series)))


def judge_flag(session: Session, flag_id: int, verdict: str) -> AnomalyFlag:
    flag = session.get(AnomalyFlag, flag_id)
    if flag is None:
        raise NotFoundError(f"There is no flag {flag_id}.")
    flag.verdict = verdict
    return flag
