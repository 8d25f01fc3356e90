"""A pool process for tests: does as its steps say, and notes what it was asked for in a folder."""

import os
import time
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from proteron.runner.remote import CLOCK


def serve_fake(connection: Connection, folder: str, _memory: int) -> None:
    while True:
        try:
            part, _task, _seconds, _job, extra = connection.recv()
        except EOFError:
            return
        with (Path(folder) / "asked").open("a") as notes:
            notes.write(f"{part} {' | '.join(map(str, extra))}\n")
        if extra and part == "run" and "load" in extra[0]:
            connection.send((CLOCK, False))
            time.sleep(1.5)
            connection.send((CLOCK, True))
        connection.send(_answer(part, extra[0] if extra else None))


def _answer(part: str, step: Any) -> tuple[bool, Any]:
    words = step if isinstance(step, list) else [step]
    if part != "run":
        return True, None
    if "die" in words:
        os._exit(3)
    if "hang" in words:
        time.sleep(60)
    if "raise" in words:
        return False, "ValueError: planted"
    return True, "stopped" if "stop" in words else "done"
