"""The durable queue on PostgreSQL: jobs survive the process that took them."""

from contextlib import suppress
from typing import Any

import procrastinate
from procrastinate import SyncPsycopgConnector
from procrastinate.exceptions import AlreadyEnqueued

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

    def cancel(self, experiment_id: int) -> None:
        """Withdraw the jobs of an experiment that nobody has taken yet."""
        for job in self._app.job_manager.list_jobs(status="todo", task="run_cells"):
            if job.task_kwargs.get("experiment_id") == experiment_id and job.id is not None:
                self._app.job_manager.cancel_job_by_id(job.id)

    def waiting(self, experiment_id: int) -> int:
        """Jobs of an experiment that are queued or taken."""
        jobs = self._app.job_manager
        return sum(
            job.task_kwargs.get("experiment_id") == experiment_id
            for status in ("todo", "doing")
            for job in jobs.list_jobs(status=status, task="run_cells")
        )

    def close(self) -> None:
        self._app.close()
