"""Which forecasters are tried on a series, how each is asked, and in which order their fits come."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from proteron.core.errors import InputError
from proteron.core.forecasters.arima.forecaster import Arima
from proteron.core.forecasters.baselines import LastValue, SeasonalLastValue
from proteron.core.forecasters.forecaster import ForecasterState, Work
from proteron.core.forecasters.local import LocalForecaster
from proteron.core.forecasters.season_aligned import SeasonAlignedRidge
from proteron.core.forecasters.smoothing.forecaster import Smoothing
from proteron.core.forecasters.theta import Theta
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints

_FEW = 12  # known points below which only what is obvious is tried
_FEWEST_CYCLES = 5  # that the season-aligned ridge is given
_LONGEST_ARIMA = 60  # of a season that ARIMA takes in
_ON_LOG = " on Log"
_MADE: dict[str, LocalForecaster] = {
    "smoothing": Smoothing(), "theta": Theta(theta=None), "season-aligned ridge": SeasonAlignedRidge(),
    "ARIMA": Arima(), LastValue.title: LastValue(), SeasonalLastValue.title: SeasonalLastValue(),
}  # fmt: skip


@dataclass(frozen=True)
class Candidate:
    """A forecaster, on the logarithm of the values or on them as they are; every panel it is asked about is of one
    series in its own units."""

    name: str
    forecaster: LocalForecaster
    log: bool = False
    dear: bool = False

    @classmethod
    def named(cls, name: str) -> "Candidate":
        """One of those there are."""
        plain = name.removesuffix(_ON_LOG)
        return cls(name, _MADE[plain], name != plain, plain == "ARIMA")

    def learn(self, part: Panel, work: Work) -> ForecasterState:
        """What it learns; raises `ProteronError` where it declines."""
        state = self.forecaster.learn(self._read(part), work)
        for reason in self.forecaster.declined(state).values():
            raise InputError(reason)
        return state

    def means(self, state: ForecasterState, panel: Panel, origins: Ints, horizon: int) -> Floats:
        """Means (n_origins, horizon), NaN where not finite."""
        found = self._told(self.forecaster.means(state, self._read(panel), origins, horizon)[0])
        return np.where(np.isfinite(found), found, np.nan)

    def ranges(
        self, state: ForecasterState, panel: Panel, origins: Ints, horizon: int, levels: Sequence[float]
    ) -> Floats | None:
        """Ends (n_levels, 2, n_origins, horizon); None where there is no theory."""
        found = self.forecaster.ranges(state, self._read(panel), origins, horizon, levels)
        return None if found is None else self._told(found[:, :, 0])

    def paths(
        self, state: ForecasterState, panel: Panel, origin: int, horizon: int, count: int, seed: int
    ) -> Floats | None:
        """Joint paths (count, horizon); None where there is no theory."""
        found = self.forecaster.simulate(state, self._read(panel), origin, horizon, count, seed)
        return None if found is None else self._told(found[:, 0])

    def _read(self, panel: Panel) -> Panel:
        """As it is read; what has no logarithm is missing."""
        if not self.log:
            return panel
        with np.errstate(divide="ignore", invalid="ignore"):
            return panel.with_values(np.where(panel.values > 0, np.log(panel.values), np.nan))

    def _told(self, found: Floats) -> Floats:
        with np.errstate(over="ignore"):
            return np.exp(found) if self.log else found


def candidates_for(values: Floats, seasons: tuple[int, ...]) -> list[Candidate]:
    """Those that suit known values (n,) with such seasons, the cheap ones first."""
    present = values[np.isfinite(values)]
    if len(present) < _FEW or np.ptp(present) == 0:
        obvious = [LastValue.title]
        if seasons and len(present) > seasons[0] > 1:
            obvious.append(SeasonalLastValue.title)
        return [Candidate.named(each) for each in obvious]
    positive = bool(present.min() > 0)
    found = ["smoothing", "theta"]
    if seasons and seasons[0] > 1 and len(present) >= _FEWEST_CYCLES * seasons[0]:
        found.append("season-aligned ridge")
    if positive:
        found.append("smoothing" + _ON_LOG)
    if not seasons or seasons[0] <= _LONGEST_ARIMA:
        found += ["ARIMA", *(["ARIMA" + _ON_LOG] if positive else [])]
    return [Candidate.named(each) for each in found]


def order_of_fits(candidates: Sequence[Candidate], folds: int) -> list[tuple[int, int]]:
    """Pairs of a candidate and a fold (0: all that is known) in the order they are learned.

    The cheap ones whole, then fold by fold; then every dear one whole and on all folds, before the next.
    """
    cheap = [place for place, each in enumerate(candidates) if not each.dear]
    dear = [place for place, each in enumerate(candidates) if each.dear]
    return [
        *((place, fold) for fold in range(folds + 1) for place in cheap),
        *((place, fold) for place in dear for fold in range(folds + 1)),
    ]
