"""The one protocol of all forecasters: settings learn a state from a flat panel and forecast with it."""

from abc import abstractmethod
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray
from scipy import special

from proteron.core.documents import Settings
from proteron.core.forecasters.explain import Picture
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints


def _go_on() -> bool:
    return False


@dataclass(frozen=True)
class Work:
    """What a fit may need besides data: how far it will be asked to look, its seed, a way to be stopped."""

    horizon: int | None = None
    seed: int = 0
    stop_asked: Callable[[], bool] = _go_on


@dataclass(frozen=True)
class ForecasterState:
    """What a forecaster learned: named arrays (first axis the series in `keys`), and plain JSON facts."""

    keys: tuple[str, ...]
    arrays: dict[str, NDArray[Any]] = field(default_factory=dict)
    facts: dict[str, Any] = field(default_factory=dict)

    def row(self, key: str) -> int:
        return self.keys.index(key)


@dataclass(frozen=True)
class Coefficient:
    """One row of a coefficient table; NaN where theory says nothing. `inflation` is that of its variance."""

    name: str
    estimate: float
    error: float
    t: float
    p: float
    inflation: float = float("nan")


@dataclass(frozen=True)
class Equation:
    """Forecasts as a sum: intercept (n_steps,) and slopes (n_features, n_steps) of features by `names`, in flat units.

    `as_scaled` (n_features,) marks features that stand as they are once every series is centred and scaled.
    """

    intercept: Floats
    slopes: Floats
    names: tuple[str, ...]
    as_scaled: NDArray[np.bool_]


class Forecaster(Settings):
    """Settings of a forecaster; works on flat values, knows nothing of chains."""

    title: ClassVar[str]
    family: ClassVar[str] = "baseline"
    can: ClassVar[tuple[str, ...]] = ()  # of "trend", "seasons", "covariates", "gaps", "ranges": what it can do
    least: ClassVar[int] = 1  # known points without which nothing can be learned
    version: ClassVar[int] = 1
    panel_wide: ClassVar[bool] = False  # learns one state over all series of the panel
    joint: ClassVar[bool] = False  # forecasts a series from all others too, so needs at least two
    prints_equation: ClassVar[bool] = False  # its forecast is a sum of features, which `equation` gives
    cost: ClassVar[float] = 1.0  # rough work per point, the mean being 1; sizes the cells

    @abstractmethod
    def learn(self, known: Panel, work: Work) -> ForecasterState:
        """Learn from a panel that ends at the cutoff; masked points are already missing."""

    @abstractmethod
    def means(self, state: ForecasterState, panel: Panel, origins: Ints, horizon: int) -> Floats:
        """Mean forecasts (n_series, n_origins, horizon) of the steps after each origin.

        `origins` (n_origins,) count known grid positions; only points before each may be read.
        NaN where nothing can be said.
        """

    def ranges(
        self, state: ForecasterState, panel: Panel, origin: int, horizon: int, levels: Sequence[float]
    ) -> Floats | None:
        """Flat ranges by theory from one origin, (n_levels, 2, n_series, horizon); None where there is no theory."""
        return None

    def simulate(
        self, state: ForecasterState, panel: Panel, origin: int, horizon: int, count: int, seed: int
    ) -> Floats | None:
        """Flat paths from one origin, (count, n_series, horizon), each series on its own; None where there is none."""
        return None

    def pictures(self, state: ForecasterState, panel: Panel, key: str) -> list[Picture]:
        """What was learned of one series, drawn; `panel` is what was known."""
        return []

    def standard_errors(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Standard errors by parameter, where theory gives them."""
        return {}

    def criteria(self, state: ForecasterState, key: str) -> dict[str, float]:
        """`loglik`, `aic`, `aicc`, `bic`, where there is a likelihood."""
        return {}

    def unsuited(self, known: Panel) -> str | None:
        """Why this does not suit a panel of one series, in one sentence; None where it may be tried."""
        there = int(np.isfinite(known.values).sum())
        if there < self.least:
            return f"It needs {self.least} known points; there are {there}."
        return self.objection(known)

    def objection(self, known: Panel) -> str | None:
        """What else speaks against a panel of one series that has points enough."""
        return None

    def coefficient_table(self, state: ForecasterState, key: str) -> list[Coefficient]:
        """Parameters with what theory says of their doubt, standard errors being those of a normal distribution."""
        errors = self.standard_errors(state, key)
        rows = []
        for name, estimate in self.parameters(state, key).items():
            error = errors.get(name, np.nan)
            t = estimate / error if error > 0 else np.nan
            rows.append(Coefficient(name, estimate, error, t, float(2 * special.ndtr(-abs(t)))))
        return rows

    def equation(self, state: ForecasterState, key: str) -> Equation | None:
        """What is forecast of one series as a sum of features, where it is one."""
        return None

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Learned numbers of one series by name."""
        return {}

    def summary(self, state: ForecasterState, key: str) -> str:
        """What was learned, in one sentence."""
        return f"{self.title}."

    @property
    def label(self) -> str:
        """A short name with the settings that matter."""
        return self.title


def local_origins(panel: Panel, index: int, origins: Ints) -> Ints:
    """Known points of one series as of each origin, (n_origins,)."""
    return np.clip(origins - panel.starts[index], 0, panel.lengths[index])
