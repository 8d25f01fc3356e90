"""The durable queue on PostgreSQL: jobs survive the process that took them."""

from contextlib import suppress
from typing import Any

import procrastinate
from procrastinate import SyncPsycopgConnector
from procrastinate.exceptions import AlreadyEnqueued
from sqlalchemy import text
from sqlalchemy.orm import Session

_OPTIONS = {"options": "-c search_path=queue,public"}


def connection_options(url: str) -> dict[str, Any]:
    """How both sides of the queue connect: its tables live in a schema of their own."""
    return {"conninfo": url, "kwargs": dict(_OPTIONS)}


class Queue:
    """The submitting side: defers and cancels jobs by task name."""

    def __init__(self, url: str) -> None:
        self._app = procrastinate.App(connector=SyncPsycopgConnector(min_size=1, max_size=4, **connection_options(url)))
        self._app.open()

    def defer(self, task: str, once: str | None = None, **arguments: Any) -> None:
        """Queue a job; it runs even if every process is killed now and started again later.

        With `once`, nothing happens while another job of that name waits to be taken.
        """
        configured = self._app.configure_task(task, allow_unknown=True, queue="work", queueing_lock=once)
        with suppress(AlreadyEnqueued):
            configured.defer(**arguments)

    def defer_outlook(self, outlook_id: int) -> None:
        self.defer("make_outlook", once=f"outlook {outlook_id}", outlook_id=outlook_id)

    def defer_features(self, profile_id: int, series: list[int]) -> None:
        once = f"features {profile_id} {series[0]}"
        self.defer("profile_series", once=once, profile_id=profile_id, series=series)

    def cancel(self, session: Session, task: str, name: str, value: int) -> None:
        """Withdraw the jobs of a task whose argument `name` is `value` and that nobody has taken yet."""
        query = text(
            "SELECT id FROM queue.procrastinate_jobs "
            "WHERE task_name = :task AND status = 'todo' AND (args->>:name)::bigint = :value"
        )
        for number in session.scalars(query, {"task": task, "name": name, "value": value}).all():
            self._app.job_manager.cancel_job_by_id(number)

    def __enter__(self) -> "Queue":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        self._app.close()


def jobs_of(session: Session, task: str, name: str) -> set[int]:
    """The values of argument `name` for which a job of a task is queued or taken."""
    query = text(
        "SELECT DISTINCT (args->>:name)::bigint FROM queue.procrastinate_jobs "
        "WHERE task_name = :task AND status IN ('todo', 'doing')"
    )
    return set(session.scalars(query, {"task": task, "name": name}))
