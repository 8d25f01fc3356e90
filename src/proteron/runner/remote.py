"""The worker's way into its pool processes: by name, so that the worker itself stays light."""

from typing import Any


def prepare(url: str, memory: int) -> None:
    """Start of a pool process; only here is the computation loaded."""
    from proteron.runner import child

    child.prepare(url, memory)


def call(name: str, *arguments: Any) -> Any:
    """Run a function of `child` in a pool process."""
    from proteron.runner import child

    return getattr(child, name)(*arguments)


def call_intake(name: str, *arguments: Any) -> Any:
    """Run a function of `intake` in the process beside the web server."""
    from proteron.runner import intake

    return getattr(intake, name)(*arguments)
