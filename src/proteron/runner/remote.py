"""The way into processes that compute: by name, so that whoever calls stays light."""

from importlib import import_module
from multiprocessing.connection import Connection
from typing import Any

CLOCK = "clock"  # said before an answer: whether the seconds of the step count, anew from then on


def prepare(url: str, memory: int) -> None:
    """Start of a process; only here is the computation loaded."""
    from proteron.runner import child

    child.prepare(url, memory)


def call(module: str, name: str, *arguments: Any) -> Any:
    """Run a function of a module of `runner` in a process beside the web server."""
    return getattr(import_module(f"proteron.runner.{module}"), name)(*arguments)


def serve(connection: Connection, url: str, memory: int) -> None:
    """Do what a worker asks for, one thing after the other, until it hangs up."""
    from proteron.records.logs import configure_logs

    def tell_clock(running: bool) -> None:
        connection.send((CLOCK, running))

    tell_clock(False)
    configure_logs()
    prepare(url, memory)
    from proteron.runner import computation  # noqa: F401
    from proteron.runner.child import here
    from proteron.runner.work import KINDS

    here().tell_clock = tell_clock
    tell_clock(True)
    while True:
        try:
            part, task, seconds, job, extra = connection.recv()
        except (EOFError, OSError):
            return
        try:
            here().allow(seconds)
            answer = (True, getattr(KINDS[task], part)(here(), *extra, job))
        except BaseException as error:  # the worker decides what becomes of it
            from proteron.core.judge import reason_of

            answer = (False, reason_of(error))
        try:
            connection.send(answer)
        except OSError:
            return
