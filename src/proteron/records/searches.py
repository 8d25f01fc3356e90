"""Searches, kept with their experiment: settings as `search`, how far it is as `race`. Light: no race is run here."""

from collections.abc import Collection
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from proteron.records.database import binary_cursor
from proteron.records.models import CellRecord, Experiment, ExperimentCell

_OVER = 1.05  # times the budget after which what is at work is stopped


@dataclass(frozen=True)
class CellFate:
    """How a cell of an experiment went: its reason where it failed, and its losses of one metric as they are stored."""

    key: str
    series: int
    origins: int
    losses: bytes | None
    reason: str
    declined: str
    seconds: float
    finished: datetime


def begin(experiment: Experiment, settings: dict[str, Any], limit: float, taken: Collection[str] = ()) -> None:
    """Settings of a search that is to run, or to go on; time spent so far counts on. No cell of it may take more than
    `limit` seconds, and no candidate is called by a name that is `taken` as it first begins."""
    experiment.search = settings
    before = experiment.race or {"spent": 0.0, "taken": list(taken)}
    now = datetime.now(UTC).isoformat()
    kept = {name: before[name] for name in ("spent", "taken")}
    experiment.race = {"state": "running", "since": now, "limit": limit, **kept}


def resume(experiment: Experiment) -> bool:
    """Have a search that was stopped go on; whether there is one at work then."""
    if experiment.race and experiment.race["state"] == "stopped":
        kept = {name: experiment.race[name] for name in ("spent", "limit", "taken")}
        experiment.race = {"state": "running", "since": datetime.now(UTC).isoformat(), **kept}
    return is_running(experiment)


def is_running(experiment: Experiment) -> bool:
    return bool(experiment.race and experiment.race["state"] == "running")


def spent(experiment: Experiment) -> float:
    """Seconds that a search has had so far."""
    if not experiment.race:
        return 0.0
    before = float(experiment.race["spent"])
    if not is_running(experiment):
        return before
    return before + (datetime.now(UTC) - datetime.fromisoformat(experiment.race["since"])).total_seconds()


def out_of_time(experiment: Experiment, at_work: bool = False) -> bool:
    """Whether a running search has had its seconds; what is `at_work` may take a little longer."""
    seconds = (experiment.search or {}).get("seconds")
    if not is_running(experiment) or seconds is None:
        return False
    return spent(experiment) >= seconds * (_OVER if at_work else 1.0)


def at_of(experiment: Experiment, moment: datetime) -> float:
    """After how many seconds of the search a moment was, counted in what it ran."""
    assert experiment.race is not None
    since = datetime.fromisoformat(experiment.race["since"])
    before = float(experiment.race["spent"])
    if not is_running(experiment):
        return max(before - (datetime.fromisoformat(experiment.race["until"]) - moment).total_seconds(), 0.0)
    return max(before - (since - moment).total_seconds() if moment < since else
               before + (moment - since) / timedelta(seconds=1), 0.0)  # fmt: skip


def end(experiment: Experiment, state: str, **facts: Any) -> None:
    """A search is over, done or stopped: its clock stands still."""
    now = datetime.now(UTC)
    experiment.race = {**(experiment.race or {}), "spent": spent(experiment), "state": state, "until": now.isoformat(),
                       **facts}  # fmt: skip


def tried(experiment: Experiment) -> int:
    """How many candidates a search that is over has tried."""
    return int((experiment.race or {}).get("tried", 0))


def limit_of(experiment: Experiment) -> float | None:
    """Seconds a cell of a running search may take."""
    return (experiment.race or {}).get("limit") if is_running(experiment) else None


def fates(session: Session, experiment_id: int, loss: str) -> list[CellFate]:
    """Every cell of an experiment that is done or failed."""
    with binary_cursor(session) as cursor:
        cursor.execute(
            "SELECT e.key, cardinality(c.series), cardinality(c.origins), l.losses, c.reason, "
            "(SELECT min(value) FROM jsonb_each_text(c.declined)), c.seconds, c.finished "
            "FROM experiment_cell e JOIN cell c ON c.key = e.key "
            "LEFT JOIN cell_loss l ON l.key = e.key AND l.metric = %s AND c.state = 'done' "
            "WHERE e.experiment_id = %s AND c.state IN ('done', 'failed')",
            (loss, experiment_id),
        )
        return [
            CellFate(key, series, origins, losses, reason or "", declined or "", seconds, finished)
            for key, series, origins, losses, reason, declined, seconds, finished in cursor
        ]


def leave_entrants(session: Session, experiment_id: int, names: Collection[str]) -> None:
    """Take the cells of entrants out of an experiment; what they found stays where others have it."""
    mine = (ExperimentCell.experiment_id == experiment_id) & ExperimentCell.contender.in_(list(names))
    session.execute(delete(ExperimentCell).where(mine))


def leave_out(session: Session, experiment_id: int, entered: Collection[str]) -> None:
    """Take cells that nobody has computed, of candidates that are not entered, out of an experiment."""
    waiting = select(CellRecord.key).where(CellRecord.state.in_(("waiting", "again")))
    session.execute(
        delete(ExperimentCell).where(
            ExperimentCell.experiment_id == experiment_id,
            ExperimentCell.contender.not_in(list(entered)),
            ExperimentCell.key.in_(waiting),
        )
    )
