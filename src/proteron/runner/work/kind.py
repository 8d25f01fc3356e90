"""What a kind of long work is: jobs that consist of steps, each with a fate of its own."""

from abc import ABC, abstractmethod
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, ClassVar

from sqlalchemy.orm import Session

from proteron.runner.queue import Queue

if TYPE_CHECKING:
    from proteron.runner.child import Here


@dataclass(frozen=True)
class Running:
    """A line in the list of running work: what it is, how many of its parts are there, and of how many."""

    kind: str
    id: int
    title: str
    done: int
    of: int


Job = dict[str, Any]  # a job's arguments, plain JSON


class LongWork(ABC):
    """One kind. Jobs are queued under `task` with plain JSON arguments.

    `run`, `give_up` and `end` are called in a pool process, where the computation is loaded: import it there, so that
    the worker stays light. `wanted` and `lost` are called in the worker itself.
    """

    task: ClassVar[str]

    def steps(self, job: Job) -> list[Any]:
        """What a job consists of, each step plain JSON with a fate of its own."""
        return [None]

    def parts(self, step: Any) -> list[Any]:
        """A step that cannot be done as a whole, in steps that may be done alone; just itself where there are none."""
        return [step]

    def limit(self, job: Job) -> float | None:
        """Seconds that a part of a step of this job may take; None: as many as any."""
        return None

    @abstractmethod
    def run(self, here: "type[Here]", step: Any, job: Job) -> str:
        """Do a step and store what it found; answers done, failed, stopped or skipped. What it raises gives it up."""

    @abstractmethod
    def give_up(self, here: "type[Here]", step: Any, reason: str, job: Job) -> None:
        """Store why a step's process could not finish it."""

    def end(self, here: "type[Here]", job: Job) -> None:  # noqa: B027  # most kinds have nothing to add
        """After the last step of a job."""

    def wanted(self, session: Session, job: Job) -> bool:
        """Whether a job is still to go on; asked now and then while a step runs."""
        return True

    @abstractmethod
    def lost(self, session: Session, queue: Queue) -> None:
        """Queue again what is to be done and no job stands for; called every few seconds."""

    @abstractmethod
    def running(self, session: Session, project_id: int) -> list[Running]:
        """What of this kind is being done in a project."""
