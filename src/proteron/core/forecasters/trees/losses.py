"""What boosting makes small: slopes and curves of a loss in the score, where it begins, what leaves say."""

from abc import ABC, abstractmethod
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy import special

from proteron.core.panel import Floats

LossName = Literal["squared", "absolute", "huber", "quantile", "poisson", "tweedie"]
_HUBER_SHARE = 0.9  # of errors that count squared (Friedman 2001, sec. 4.4)
_SMALLEST = 1e-9


class Loss(ABC):
    """Of scores and targets, (n_rows,) each, with row weights."""

    positive = False  # whether targets must not be negative; scores are logarithms of forecasts then
    renewed = False  # whether leaves say a quantile of what is left instead of a Newton step

    @abstractmethod
    def begin(self, targets: Floats, weights: Floats) -> float:
        """The best score that is the same for all."""

    @abstractmethod
    def bent(self, scores: Floats, targets: Floats) -> tuple[Floats, Floats]:
        """First and second derivative of every row's loss in its score, the latter at least as good as positive."""

    @abstractmethod
    def of(self, scores: Floats, targets: Floats) -> Floats:
        """Every row's loss."""

    def says(self, left: Floats, weights: Floats) -> float:
        """What a renewed leaf says of what is left (n_rows,) of its targets."""
        raise NotImplementedError


class Squared(Loss):
    def begin(self, targets: Floats, weights: Floats) -> float:
        """The best score that is the same for all."""
        return float(np.average(targets, weights=weights))

    def bent(self, scores: Floats, targets: Floats) -> tuple[Floats, Floats]:
        """First and second derivative of every row\'s loss in its score."""
        return scores - targets, np.ones(len(scores))

    def of(self, scores: Floats, targets: Floats) -> Floats:
        """Every row\'s loss."""
        return (scores - targets) ** 2 / 2


@dataclass(frozen=True)
class Quantile(Loss):
    """The pinball loss of Koenker & Bassett 1978; `share` 0.5 is half the absolute error."""

    share: float = 0.5
    renewed = True

    def begin(self, targets: Floats, weights: Floats) -> float:
        """The best score that is the same for all."""
        return weighted_quantile(targets, weights, self.share)

    def bent(self, scores: Floats, targets: Floats) -> tuple[Floats, Floats]:
        """First and second derivative of every row\'s loss in its score."""
        return np.where(scores > targets, 1 - self.share, -self.share), np.ones(len(scores))

    def of(self, scores: Floats, targets: Floats) -> Floats:
        """Every row\'s loss."""
        below = targets - scores
        return np.maximum(self.share * below, (self.share - 1) * below)

    def says(self, left: Floats, weights: Floats) -> float:
        """What a renewed leaf says of what is left (n_rows,) of its targets."""
        return weighted_quantile(left, weights, self.share)


class Huber(Loss):
    """Squared where errors are small, absolute beyond: where nine of ten of the first errors lie (Huber 1964)."""

    def __init__(self) -> None:
        self.border = np.inf

    def begin(self, targets: Floats, weights: Floats) -> float:
        """The best score that is the same for all."""
        middle = weighted_quantile(targets, weights, 0.5)
        self.border = max(weighted_quantile(np.abs(targets - middle), weights, _HUBER_SHARE), _SMALLEST)
        return middle

    def bent(self, scores: Floats, targets: Floats) -> tuple[Floats, Floats]:
        """First and second derivative of every row\'s loss in its score."""
        return np.clip(scores - targets, -self.border, self.border), np.ones(len(scores))

    def of(self, scores: Floats, targets: Floats) -> Floats:
        """Every row\'s loss."""
        return np.asarray(special.huber(self.border, scores - targets))


@dataclass(frozen=True)
class Tweedie(Loss):
    """Deviance of counts and amounts with many zeros, of variance mean ** `power`; power 1 is Poisson's."""

    power: float = 1.5
    positive = True

    def begin(self, targets: Floats, weights: Floats) -> float:
        """The best score that is the same for all."""
        return float(np.log(max(np.average(targets, weights=weights), _SMALLEST)))

    def bent(self, scores: Floats, targets: Floats) -> tuple[Floats, Floats]:
        """First and second derivative of every row\'s loss in its score."""
        less, more = np.exp((1 - self.power) * scores), np.exp((2 - self.power) * scores)
        return more - targets * less, (2 - self.power) * more - (1 - self.power) * targets * less

    def of(self, scores: Floats, targets: Floats) -> Floats:
        """Every row\'s loss."""
        if self.power == 1:
            return np.exp(scores) - targets * scores
        less, more = np.exp((1 - self.power) * scores), np.exp((2 - self.power) * scores)
        return more / (2 - self.power) - targets * less / (1 - self.power)


def loss_named(name: LossName, share: float = 0.5, power: float = 1.5) -> Loss:
    """A loss by its name; `share` is that of a quantile, `power` Tweedie's."""
    if name == "squared":
        return Squared()
    if name == "huber":
        return Huber()
    if name in ("poisson", "tweedie"):
        return Tweedie(1.0 if name == "poisson" else power)
    return Quantile(share if name == "quantile" else 0.5)


def weighted_quantile(values: Floats, weights: Floats | NDArray[np.float64], share: float) -> float:
    """The least value that at least `share` of all weight does not lie above."""
    order = np.argsort(values, kind="stable")
    reached = np.cumsum(weights[order])
    return float(values[order[min(np.searchsorted(reached, share * reached[-1]), len(values) - 1)]])
