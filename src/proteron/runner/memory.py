"""How much memory a piece of work took at most, as the system counts it."""

from pathlib import Path

_STATUS, _CLEAR = Path("/proc/self/status"), Path("/proc/self/clear_refs")
_FORGET_PEAK = "5"


class PeakMemory:
    """Counts from its making on; where the system does not tell, nothing is known."""

    def __init__(self) -> None:
        try:
            _CLEAR.write_text(_FORGET_PEAK)
            self._before = _resident("VmRSS")
        except OSError:
            self._before = None

    def taken(self) -> int | None:
        """Bytes by which this process has grown at most, None where it is not known."""
        peak = _resident("VmHWM") if self._before is not None else None
        return None if peak is None or self._before is None else max(peak - self._before, 0)


def _resident(what: str) -> int | None:
    for line in _STATUS.read_text().splitlines():
        if line.startswith(what):
            return int(line.split()[1]) * 1024
    return None
