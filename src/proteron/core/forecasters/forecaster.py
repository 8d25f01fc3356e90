"""The one protocol of all forecasters: settings learn a state from a flat panel and forecast with it."""

import time
from abc import abstractmethod
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray
from scipy import special

from proteron.core.documents import Versioned
from proteron.core.errors import StoppedError, UnitsError
from proteron.core.forecasters.pictures import Picture
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints


def _go_on() -> bool:
    return False


@dataclass(frozen=True)
class Progress:
    """How far a fit is: the share that is done, a word about it, the losses so far by epoch or tree, learned and held
    out; and whose fit it is, where somebody knows."""

    share: float
    about: str
    learned: tuple[float, ...] = ()
    held_out: tuple[float, ...] = ()
    contender: str = ""
    fold: int | None = None


def unheard(_told: Progress) -> None:
    """Nobody listens."""


@dataclass(frozen=True)
class Work:
    """What a fit may need besides data: how far it will be asked to look, its seed, when to end, whom to tell.

    `deadline` is a moment of `time.monotonic`; `levels` are the ranges that will be asked for, for those who must learn
    them; `report` hears how far it is.
    """

    horizon: int | None = None
    seed: int = 0
    stop_asked: Callable[[], bool] = _go_on
    deadline: float | None = None
    report: Callable[[Progress], None] = unheard
    levels: tuple[float, ...] = ()

    def go_on(self) -> None:
        """Raise `StoppedError` when the work is to stop; every family asks between pieces of its work."""
        if self.stop_asked():
            raise StoppedError("Stopped on request.")

    @property
    def seconds_left(self) -> float:
        """Until the deadline; infinite without one, never below 0."""
        return float("inf") if self.deadline is None else max(self.deadline - time.monotonic(), 0.0)


@dataclass(frozen=True)
class ForecasterState:
    """What a forecaster learned: named arrays (first axis the series in `keys`), and plain JSON facts."""

    keys: tuple[str, ...]
    arrays: dict[str, NDArray[Any]] = field(default_factory=dict)
    facts: dict[str, Any] = field(default_factory=dict)

    def row(self, key: str) -> int:
        """The place of a series in the arrays."""
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


@dataclass(frozen=True)
class Tried:
    """A form that was tried while learning: its criterion, None where there is none, and why it was not taken."""

    label: str
    criterion: float | None
    reason: str = ""


@dataclass(frozen=True)
class Training:
    """How a training went: losses by epoch, learned and held out, and the epoch whose weights were kept (from 1; 0:
    what it began as); of other repeats the held-out losses."""

    loss: tuple[float, ...]
    validation_loss: tuple[float, ...]
    kept_epoch: int
    windows: int
    others: tuple[tuple[float, ...], ...] = ()


@dataclass(frozen=True)
class DrawnLayer:
    """A layer of a network on the time axis: steps and channels of what it makes, its weights, and for every step the
    farthest and the nearest point it sees, as lags; None where it sees none. `beside`: it reads other features too."""

    title: str
    steps: int
    channels: int
    weights: int
    lags: tuple[tuple[int, int] | None, ...]
    beside: bool


_LARGEST = 1e140
_MANY_DRAWS, _FEW_DRAWS = 5000, 1000


def refuse_huge(values: Floats) -> None:
    """Raise `UnitsError` where squares of values (n,) would leave the range of numbers."""
    present = values[np.isfinite(values)]
    if len(present) and np.abs(present).max() > _LARGEST:
        raise UnitsError(f"Values beyond {_LARGEST:.0e} cannot be squared: take their logarithm first.", field="until")


class Forecaster(Versioned):
    """Settings of a forecaster; works on flat values, knows nothing of chains."""

    title: ClassVar[str]
    family: ClassVar[str] = "baseline"
    can: ClassVar[tuple[str, ...]] = ()  # of "trend", "seasons", "covariates", "gaps", "ranges": what it can do
    least: ClassVar[int] = 1  # known points without which nothing can be learned
    panel_wide: ClassVar[bool] = False  # learns one state over all series of the panel
    form: ClassVar[int] = 1  # of the state it learns; raised, and told in its facts, when older ones cannot be read
    joint: ClassVar[bool] = False  # forecasts a series from all others too, so needs at least two
    prints_equation: ClassVar[bool] = False  # its forecast is a sum of features, which `equation` gives
    batched: ClassVar[bool] = False  # `learn_many` is faster than one after the other
    listed: ClassVar[bool] = True  # whether it can be taken with its settings alone
    cost: ClassVar[float] = 1.0  # rough work per point, the mean being 1; sizes the cells

    def reads_ahead(self, panel: Panel, horizon: int) -> dict[str, int]:
        """Columns known ahead that a forecast of `horizon` steps reads, each up to how many steps after the origin."""
        names = set(getattr(self, "covariates", ()))
        ahead = (column.name for column in panel.covariates if column.role == "known_ahead")
        return {name: horizon for name in ahead if name in names}

    @abstractmethod
    def learn(self, known: Panel, work: Work) -> ForecasterState:
        """Learn from a panel that ends at the cutoff; masked points are already missing."""

    @abstractmethod
    def means(self, state: ForecasterState, panel: Panel, origins: Ints, horizon: int) -> Floats:
        """Mean forecasts (n_series, n_origins, horizon) of the steps after each origin.

        `origins` (n_origins,) count known grid positions; only points before each may be read.
        NaN where nothing can be said.
        """

    def learn_many(self, fits: Sequence[tuple[Panel, Work]]) -> list[ForecasterState]:
        """As `learn` for each, to the bit; families that gain by learning several at once do so here."""
        return [self.learn(known, work) for known, work in fits]

    def guard(self, known: Panel) -> None:
        """Raise what speaks against these flat values before anything is learned."""
        refuse_huge(known.values)

    def declined(self, state: ForecasterState) -> dict[str, str]:
        """Series that got no forecast, with the reason."""
        return {}

    def look_back(self, state: ForecasterState, known: Panel) -> int:
        """Points a series must have shown before its in-sample forecasts count."""
        return int(state.facts.get("period", 1))

    @property
    def tells_rates(self) -> bool:
        """Whether its forecasts of whole numbers are what is to be expected a step, and so not whole."""
        return False

    @property
    def way(self) -> str:
        """How it goes many steps: own, direct or recursive."""
        return "own"

    def tried(self, state: ForecasterState, key: str) -> list[Tried]:
        """What was tried for one series before one form was taken."""
        return []

    has_graph: ClassVar[bool] = False  # it can be handed over as a graph of operators

    def drawn(self, state: ForecasterState) -> list[DrawnLayer]:
        """The layers of a network, for drawing; none where there is no network."""
        return []

    def training(self, state: ForecasterState) -> Training | None:
        """How its training went, where there was one."""
        return None

    @property
    def checked(self) -> bool:
        """Whether residuals of a good fit are white, so that checks of them tell something."""
        return False

    @property
    def tells_ranges(self) -> bool:
        """Whether `ranges` says anything with these settings."""
        return "ranges" in self.can

    @property
    def learns_levels(self) -> bool:
        """Whether what it learns depends on the levels of the ranges that will be asked for."""
        return False

    def ranges(
        self, state: ForecasterState, panel: Panel, origins: Ints, horizon: int, levels: Sequence[float]
    ) -> Floats | None:
        """Flat ranges by theory from each origin, (n_levels, 2, n_series, n_origins, horizon); None without theory."""
        draws = _MANY_DRAWS if len(origins) == 1 else _FEW_DRAWS
        found = [self.ranges_from(state, panel, int(each), horizon, levels, draws) for each in origins]
        if not found or any(each is None for each in found):
            return None
        return np.stack([each for each in found if each is not None], axis=3)

    def ranges_from(
        self, state: ForecasterState, panel: Panel, origin: int, horizon: int, levels: Sequence[float], draws: int
    ) -> Floats | None:
        """Flat ranges from one origin, (n_levels, 2, n_series, horizon); `draws` paths where they are simulated."""
        return None

    def simulate(
        self, state: ForecasterState, panel: Panel, origin: int, horizon: int, count: int, seed: int
    ) -> Floats | None:
        """Flat paths from one origin, (count, n_series, horizon), each series on its own; None where there is none."""
        return None

    def parts(self, state: ForecasterState, panel: Panel, key: str, origin: int, horizon: int) -> dict[str, Floats]:
        """What a flat forecast of one series from an origin is made of, (horizon,) each, adding up to it; empty where
        it is of one piece."""
        return {}

    def part_errors(
        self, state: ForecasterState, panel: Panel, key: str, origin: int, horizon: int
    ) -> dict[str, Floats]:
        """Standard errors of those of the `parts` that have some, (horizon,) each."""
        return {}

    def pictures(self, state: ForecasterState, panel: Panel, key: str) -> list[Picture]:
        """What was learned of one series, drawn; `panel` is what was known."""
        return []

    def standard_errors(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Standard errors by parameter, where theory gives them."""
        return {}

    def criteria(self, state: ForecasterState, key: str) -> dict[str, float]:
        """`loglik`, `aic`, `aicc`, `bic`, where there is a likelihood."""
        return {}

    def likelihood_of(self, state: ForecasterState, key: str) -> str:
        """What its likelihood is one of: criteria of the same text may be compared, behind the same chain."""
        return self.title

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
