"""A dense neural network on windows, one for the whole panel."""

from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from proteron.core.errors import TooShortError
from proteron.core.forecasters.forecaster import ForecasterState, Training, Work
from proteron.core.forecasters.neural import engine, layers
from proteron.core.forecasters.window_forecaster import WindowForecaster, column_scales, compact, standardised
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints
from proteron.core.windows import Table

_ACTIVATIONS = {"relu": layers.RELU, "tanh": layers.TANH}


def _shares(weights: Floats) -> Floats | None:
    """Weights as shares of their sum; None where all rows weigh the same."""
    return weights / weights.sum() if weights.any() and (weights != weights[0]).any() else None


class DenseNetwork(WindowForecaster):
    """Fully connected layers on standardised windows of series scaled by their own known spread.

    Trained by Adam on mini-batches; the chronologically last windows are held out for early
    stopping, and the weights of the best epoch on them are kept.
    """

    title: ClassVar[str] = "dense network on windows"
    panel_wide: ClassVar[bool] = True
    cost: ClassVar[float] = 100.0
    kind: Literal["dense_network"] = "dense_network"
    hidden: tuple[Annotated[int, Field(ge=1, le=1024)], ...] = Field((64, 32), title="Hidden layers", min_length=1)
    activation: Literal["relu", "tanh"] = Field("relu", title="Activation")
    learning_rate: float = Field(2e-3, gt=0, le=1, title="Learning rate")
    weight_decay: float = Field(1e-4, ge=0, title="Weight decay")
    batch: int = Field(64, ge=1, title="Batch", description="Windows per step.")
    epochs: int = Field(60, ge=1, le=10_000, title="Epochs at most")
    patience: int = Field(
        8, ge=1, title="Patience", description="Epochs without a better validation loss before stopping."
    )
    windows_per_epoch: int = Field(20_000, ge=1, title="Windows per epoch", description="Drawn anew each epoch.")
    validation: float = Field(
        0.15, gt=0, lt=0.9, title="Validation share", description="The chronologically last part of what is known."
    )
    precision: Literal["float32", "float64"] = Field("float32", title="Precision", json_schema_extra={"advanced": True})

    @property
    def most_rows(self) -> int | None:
        """Rows that all its learning can look at; None: every one."""
        return self.epochs * self.windows_per_epoch

    def learn_rows(self, table: Table, known: Panel, work: Work) -> ForecasterState:
        """Learn from rows of scaled values."""
        train, held_out = self._split(table)
        rng = np.random.default_rng(work.seed)
        dtype = np.dtype(self.precision)
        centre, spread = column_scales(table.features, train)
        sizes = np.array([table.features.shape[1], *self.hidden, table.targets.shape[1]], dtype=np.int64)
        trained = self._train(
            (compact(table.features, train, dtype, centre, spread), compact(table.targets, train, dtype)),
            (compact(table.features, held_out, dtype, centre, spread), compact(table.targets, held_out, dtype)),
            engine.initial_parameters(sizes, rng, dtype.type),
            sizes,
            (_shares(table.weights[train]), _shares(table.weights[held_out])),
            rng,
            work,
        )
        arrays = {"parameters": trained["parameters"], "centre": centre, "spread_of_features": spread}
        facts = {name: value for name, value in trained.items() if name != "parameters"}
        facts |= {"sizes": sizes.tolist(), "names": list(table.names), "weights": len(trained["parameters"])}
        return ForecasterState(known.keys, arrays, facts | {"train": int(train.sum()), "held_out": int(held_out.sum())})

    def _split(self, table: Table) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
        """Rows to train on and the later rows held out; no target of the former lies in the latter's span."""
        positions = np.unique(table.positions)
        border = positions[min(int(len(positions) * (1 - self.validation)), len(positions) - 1)]
        held_out = table.positions >= border
        train = table.positions + max(table.plan.horizon) <= border
        if not train.any():
            train = ~held_out
        if not train.any():
            raise TooShortError(
                f"{self.title}: {len(table)} windows are too few to train and validate on.", field="plan"
            )
        return train, held_out

    def _train(
        self,
        rows: tuple[NDArray[Any], NDArray[Any]],
        later: tuple[NDArray[Any], NDArray[Any]],
        parameters: NDArray[Any],
        sizes: Ints,
        shares: tuple[Floats | None, Floats | None],
        rng: np.random.Generator,
        work: Work,
    ) -> dict[str, Any]:
        moments = np.zeros((2, len(parameters)), dtype=parameters.dtype)
        gradient = np.empty_like(parameters)
        activation = _ACTIVATIONS[self.activation]
        best, best_loss, best_epoch, step = parameters.copy(), np.inf, -1, 0
        losses: list[float] = []
        validation_losses: list[float] = []
        for epoch in range(self.epochs):
            work.go_on()
            work.report(epoch / self.epochs, f"epoch {epoch + 1}")
            if shares[0] is None:
                order = rng.permutation(len(rows[0]))[: self.windows_per_epoch]
            else:  # rows are drawn as often as they weigh, which keeps the weighted loss in the mean
                order = rng.choice(len(rows[0]), min(len(rows[0]), self.windows_per_epoch), p=shares[0])
            rate = self.learning_rate * (0.05 + 0.95 * 0.5 * (1 + np.cos(np.pi * epoch / self.epochs)))
            loss, step = engine.train_epoch(
                parameters, moments, gradient, rows[0], rows[1], order, sizes, activation,
                self.batch, rate, self.weight_decay, step,
            )  # fmt: skip
            losses.append(float(loss))
            error = engine.network_output(parameters, later[0], sizes, activation) - later[1]
            squares = np.square(error, dtype=np.float64).mean(axis=1)
            validation_losses.append(float(np.average(squares, weights=shares[1])))
            if validation_losses[-1] < best_loss:
                best, best_loss, best_epoch = parameters.copy(), validation_losses[-1], epoch
            elif epoch - best_epoch >= self.patience or not np.isfinite(loss):
                break
        return {"parameters": best, "loss": losses, "validation_loss": validation_losses, "kept_epoch": best_epoch}

    def training(self, state: ForecasterState) -> Training:
        """How the training went: losses by epoch, and the epoch kept."""
        facts = state.facts
        return Training(
            tuple(facts["loss"]), tuple(facts["validation_loss"]), int(facts["kept_epoch"]) + 1, int(facts["windows"])
        )

    def predict(self, state: ForecasterState, features: Floats, series: Ints) -> Floats:
        """Scaled forecasts (n_rows, n_steps) for scaled features."""
        parameters = state.arrays["parameters"]
        scaled = standardised(features, state.arrays["centre"], state.arrays["spread_of_features"])
        sizes = np.array(state.facts["sizes"], dtype=np.int64)
        inputs = scaled.astype(parameters.dtype)
        return engine.network_output(parameters, inputs, sizes, _ACTIVATIONS[self.activation]).astype(np.float64)

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Learned numbers of one series by name, in flat units."""
        kept = state.facts["kept_epoch"]
        return {"weights": float(state.facts["weights"]), "validation_loss": state.facts["validation_loss"][kept]}

    def summary(self, state: ForecasterState, key: str) -> str:
        """What was learned of one series, in one sentence."""
        facts = state.facts
        shape = "-".join(str(size) for size in facts["sizes"])
        steps = facts["sizes"][-1]
        way = f"direct for {steps} steps" if steps > 1 else "one step, fed back"
        return (
            f"Network {shape} with {facts['weights']:,} weights, {way}; {facts['train']:,} windows learned, "
            f"{facts['held_out']:,} later ones held out; epoch {facts['kept_epoch'] + 1} of {len(facts['loss'])} kept."
        )
