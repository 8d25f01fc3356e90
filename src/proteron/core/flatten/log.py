"""Natural logarithm of the value, or of the value plus an offset."""

from abc import abstractmethod
from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.flatten.curve import CurveStage, positive
from proteron.core.flatten.stage import Calendar, StageState, require
from proteron.core.panel import Floats
from proteron.core.timeline import Ints

_FLOOR_SHARE = 1e-6
_LARGEST = 1e300


class LogCurve(CurveStage):
    """Logarithm of the value plus something; below a millionth of the smallest known sum, its tangent."""

    @property
    @abstractmethod
    def added(self) -> float: ...

    def domain(self) -> tuple[float, float]:
        """Values whose sum with what is added is not negative."""
        return -self.added, np.inf

    def fit(self, values: Floats, positions: Ints, calendar: Calendar) -> StageState:
        """Learn from known values (n_known,) at grid `positions`; raises `TooShortError` or `UnitsError`."""
        require(values, self.needs, self.title)
        shifted = positive(values, self.added, self.title, positions, calendar)
        low = shifted.min() * _FLOOR_SHARE - self.added
        return StageState({"low": np.float64(low), "high": np.float64(_LARGEST)})

    def _forward(self, state: StageState, x: Floats) -> Floats:
        return np.log(np.maximum(x + self.added, 1e-300))

    def _backward(self, state: StageState, y: Floats) -> Floats:
        return np.exp(y) - self.added

    def _slope(self, state: StageState, x: Floats) -> Floats:
        return 1.0 / np.maximum(x + self.added, 1e-300)

    def facts(self, state: StageState) -> dict[str, float]:
        """What was learned, as numbers by name."""
        return {"straight below": state.number("low")}


class Log(LogCurve):
    """Logarithm of the value plus an offset; all known values plus the offset must be positive."""

    title: ClassVar[str] = "log"
    version: ClassVar[int] = 2
    kind: Literal["log"] = "log"
    offset: float = Field(0.0, title="Offset", description="Added before taking the logarithm, in the series' unit.")

    @property
    def added(self) -> float:
        return self.offset


class Log1p(LogCurve):
    """Logarithm of one plus the value: for counts with zeros."""

    title: ClassVar[str] = "log of 1 + value"
    kind: Literal["log1p"] = "log1p"

    @property
    def added(self) -> float:
        return 1.0
