"""How a network learns: batches, optimisers, schedules, and stopping by windows held out."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from proteron.core.forecasters.neural import losses
from proteron.core.forecasters.neural.bound import Drawing
from proteron.core.forecasters.neural.network import Bound, Network
from proteron.core.forecasters.neural.optimisers import Pace, move
from proteron.core.forecasters.neural.rows import Rows, gather
from proteron.core.forecasters.neural.stack import stack_of, taught
from proteron.core.panel import Floats
from proteron.core.timeline import Ints

Optimiser = Literal["adam", "momentum"]
Schedule = Literal["cosine", "plateau", "constant"]
_AT_ONCE = 512  # rows that a network is asked about together


@dataclass(frozen=True)
class Recipe:
    """How a network is trained; see the settings of `LearnedNetwork`."""

    loss: str = "squared"
    shares: tuple[float, ...] = (1.0,)
    optimiser: Optimiser = "adam"
    rate: float = 2e-3
    decay: float = 1e-4
    clip: float = 1.0
    batch: int = 64
    epochs: int = 60
    rows_per_epoch: int = 20_000
    patience: int = 8
    schedule: Schedule = "cosine"
    warm_up: int = 0


@dataclass(frozen=True)
class Trained:
    """Parameters of the best epoch, losses by epoch, and which epoch that was (from 0; -1: what it began as)."""

    parameters: Floats
    losses: tuple[float, ...]
    later_losses: tuple[float, ...]
    kept: int
    best: float  # the held-out loss then


class Lesson:
    """A network being taught: parameters, their gradient, and room for batches."""

    def __init__(self, network: Network, parameters: Floats, recipe: Recipe, rng: np.random.Generator) -> None:
        self.network, self.parameters, self.recipe = network, parameters, recipe
        self.gradient = np.zeros_like(parameters)
        self.moments = np.zeros((2, len(parameters)), dtype=parameters.dtype)
        self.drawing = Drawing(rng)
        self.steps = 0
        self.stack = stack_of(network, parameters.dtype)
        self._code, self._shares = losses.CODES[recipe.loss], np.array(recipe.shares)
        self._bound: dict[int, tuple[Bound, Floats, Floats, Floats]] = {}

    def _room(self, rows: int, steps: int) -> tuple[Bound, Floats, Floats, Floats]:
        if rows not in self._bound:
            made = self.network.bind(self.parameters, self.gradient, rows, self.drawing)
            targets = np.empty((rows, steps), dtype=self.parameters.dtype)
            self._bound[rows] = (made, targets, np.empty(rows), np.empty(rows))
        return self._bound[rows]

    def gradient_of(self, rows: Rows, chosen: Ints) -> float:
        """The mean loss of chosen rows; its gradient is in `gradient` then."""
        network, targets, weights, units = self._room(len(chosen), rows.targets.shape[1])
        gather(rows, chosen, network.input, targets, weights, units)
        self.drawing.learning = True
        network.forward()
        network.flows[:] = 0
        shape = (*targets.shape, -1)
        loss = losses.loss_and_flow(
            network.output.reshape(shape),
            targets,
            weights,
            units,
            self._code,
            self._shares,
            network.by_output.reshape(shape),
        )
        network.back()
        return float(loss)

    def epoch(self, rows: Rows, order: Ints, rate: float) -> float:
        """One pass over rows in `order`; gives their mean loss."""
        recipe = self.recipe
        pace = Pace(recipe.optimiser == "adam", rate, recipe.decay, recipe.clip)
        if self.stack is not None:
            loss = taught(
                self.stack, self.parameters, self.moments, rows, order, recipe.batch, self._code, self._shares, pace,
                self.steps,
            )  # fmt: skip
            self.steps += -(-len(order) // recipe.batch)
            return float(loss)
        total = 0.0
        for start in range(0, len(order), recipe.batch):
            chosen = order[start : start + recipe.batch]
            total += self.gradient_of(rows, chosen) * len(chosen)
            self.steps += 1
            move(self.parameters, self.moments, self.gradient, pace, self.steps)
        return total / max(len(order), 1)


def answers(network: Network, parameters: Floats, inputs: Floats) -> Floats:
    """What a network says of rows (n_rows, n_features): (n_rows, n_out), in its precision."""
    last = network.shape(network.layers[-1].out)
    out = [np.empty((0, last[0] * last[1]), dtype=parameters.dtype)]
    drawing, gradient = Drawing(np.random.default_rng(0)), np.zeros_like(parameters)
    made = None
    for start in range(0, len(inputs), _AT_ONCE):
        rows = inputs[start : start + _AT_ONCE]
        if made is None or len(rows) != len(made.input):
            made = network.bind(parameters, gradient, len(rows), drawing)
        made.input[:] = rows
        made.forward()
        out.append(made.output.copy())
    return np.concatenate(out)


def mean_loss(network: Network, parameters: Floats, rows: Rows, recipe: Recipe) -> float:
    """The weighted mean loss of rows."""
    said = answers(network, parameters, rows.inputs).reshape(*rows.targets.shape, -1).astype(float)
    return float(
        losses.loss_and_flow(
            said, rows.targets.astype(float), rows.weights, rows.units, losses.CODES[recipe.loss],
            np.array(recipe.shares), np.empty_like(said),
        )
    )  # fmt: skip


def train(
    network: Network, learned: Rows, later: Rows, recipe: Recipe, seed: int, dtype: type,
    tell: Callable[[Sequence[float], Sequence[float]], None] | None = None,
) -> Trained:  # fmt: skip
    """Train from a seed; `tell` hears the losses by epoch so far, learned and held out, and may raise to stop.

    It ends when `patience` epochs have not made the later loss smaller, and the parameters of the best epoch stay.
    """
    rng = np.random.default_rng(seed)
    parameters: Floats = network.begin(rng).astype(dtype)
    lesson = Lesson(network, parameters, recipe, rng)
    best, best_loss, kept, slower = parameters.copy(), mean_loss(network, parameters, later, recipe), -1, 1.0
    told: list[float] = []
    later_told: list[float] = []
    for epoch in range(recipe.epochs):
        order = rng.permutation(len(learned.inputs))[: recipe.rows_per_epoch]
        loss = lesson.epoch(learned, order, slower * _rate(recipe, epoch))
        told.append(float(loss))
        later_told.append(mean_loss(network, parameters, later, recipe))
        if tell is not None:
            tell(told, later_told)
        if later_told[-1] < best_loss:
            best, best_loss, kept = parameters.copy(), later_told[-1], epoch
            continue
        if epoch - kept >= recipe.patience or not np.isfinite(loss):
            break
        if recipe.schedule == "plateau" and (epoch - kept) % max(recipe.patience // 2, 1) == 0:
            slower *= 0.5
    return Trained(best, tuple(told), tuple(later_told), kept, best_loss)


def _rate(recipe: Recipe, epoch: int) -> float:
    """The learning rate of an epoch: rising through those of the warm-up, then along its schedule."""
    if epoch < recipe.warm_up:
        return recipe.rate * (epoch + 1) / (recipe.warm_up + 1)
    if recipe.schedule != "cosine":
        return recipe.rate
    share = (epoch - recipe.warm_up) / max(recipe.epochs - recipe.warm_up, 1)
    return float(recipe.rate * (0.05 + 0.95 * 0.5 * (1 + np.cos(np.pi * share))))
