"""What networks are made of."""

from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.forecasters.forecaster import ForecasterState
from proteron.core.forecasters.networks.layout import Layout
from proteron.core.forecasters.networks.learned import ADVANCED, LearnedNetwork
from proteron.core.forecasters.neural import layers
from proteron.core.forecasters.neural.network import Network
from proteron.core.panel import Floats

Width = Annotated[int, Field(ge=1, le=1024)]
_ACTIVATIONS = {"relu": layers.RELU, "tanh": layers.TANH}
_HEAD_GAIN = 0.03  # what a network says at first, beside the straight line


def _head(net: Network, encoded: int, layout: Layout, hidden: int) -> None:
    """From what was made of the window, and all features, by two dense layers to the steps ahead; a straight line of
    all features is added."""
    one = net.dense(net.joined(encoded, _everything(net, layout)), hidden, layers.RELU)
    one = net.dense(one, -(-hidden // 2), layers.RELU)
    _with_line(net, net.dense(one, layout.outputs, gain=_HEAD_GAIN), layout)


def _everything(net: Network, layout: Layout) -> int:
    """The input and, of its categories, what is learned of each."""
    one = 0
    for column, count in layout.categories:
        one = net.joined(one, net.embedded(net.taken(column, 1), count, layout.embedding, count))
    return one


def _pieces(net: Network, layout: Layout, size: int) -> int:
    """The window in pieces of so many points, each a step; the oldest points that fill none are left out."""
    size = min(size, layout.window)
    steps = layout.window // size
    return net.taken(layout.window - steps * size, steps, size)


def _with_line(net: Network, said: int, layout: Layout) -> None:
    net.added(said, net.line(*layout.line))


class DenseNetwork(LearnedNetwork):
    """Fully connected layers on all features of a window."""

    version: ClassVar[int] = 4
    title: ClassVar[str] = "dense network on windows"
    cost: ClassVar[float] = 100.0
    reads_window: ClassVar[bool] = False
    kind: Literal["dense_network"] = "dense_network"
    hidden: tuple[Width, ...] = Field((64, 32), title="Hidden layers", min_length=1)
    activation: Literal["relu", "tanh"] = Field("relu", title="Activation")
    dropout: float = Field(
        0.0, ge=0, lt=1, title="Dropout", json_schema_extra={**ADVANCED, "search": {"low": 0.0, "high": 0.3}}
    )
    line: bool = Field(True, title="Straight line beside it", json_schema_extra=ADVANCED)
    learning_rate: float = Field(
        2e-3, gt=0, le=1, title="Learning rate", json_schema_extra={"search": {"low": 5e-4, "high": 1e-2, "log": True}}
    )
    epochs: int = Field(60, ge=1, le=10_000, title="Epochs at most")
    batch: int = Field(64, ge=1, title="Batch", description="Windows per step.", json_schema_extra=ADVANCED)
    windows_per_epoch: int = Field(
        20_000,
        ge=1,
        title="Windows per epoch",
        description="Drawn anew each epoch; no more are held out.",
        json_schema_extra=ADVANCED,
    )  # fmt: skip
    patience: int = Field(
        8, ge=1, title="Patience", description="Epochs without a better validation loss.", json_schema_extra=ADVANCED
    )

    def build(self, layout: Layout) -> Network:
        """The network, its output (n_outputs,)."""
        net = Network(layout.width)
        one = _everything(net, layout)
        for width in self.hidden:
            one = net.dropout(net.dense(one, width, _ACTIVATIONS[self.activation]), self.dropout)
        said = net.dense(one, layout.outputs, gain=_HEAD_GAIN)
        if self.line:
            _with_line(net, said, layout)
        return net

    def shape_in_words(self, state: ForecasterState) -> str:
        """What the network is, in a few words."""
        sizes = [len(state.facts["names"]), *self.hidden, state.facts["steps"]]
        return "Network " + "-".join(map(str, sizes))


class AutoregressiveNetwork(LearnedNetwork):
    """One small hidden layer on lags and seasonal lags, trained from many seeds, averaged, and fed back."""

    title: ClassVar[str] = "autoregressive network"
    cost: ClassVar[float] = 300.0
    reads_window: ClassVar[bool] = False
    kind: Literal["autoregressive_network"] = "autoregressive_network"
    hidden: int = Field(8, ge=1, le=512, title="Hidden units")
    strategy: Literal["direct", "recursive"] = Field(
        "recursive", title="Many steps", description="Direct: a target per step. Recursive: forecasts are fed back."
    )
    repeats: int = Field(10, ge=1, le=50, title="Repeats", description="Trainings, each from a seed of its own.")
    weight_decay: float = Field(1e-3, ge=0, title="Weight decay", json_schema_extra=ADVANCED)

    @property
    def simulates(self) -> bool:
        """Paths are simulated with resampled errors where forecasts are fed back."""
        return self.strategy == "recursive"

    def build(self, layout: Layout) -> Network:
        """The network, its output (n_outputs,)."""
        net = Network(layout.width)
        _with_line(
            net,
            net.dense(net.dense(_everything(net, layout), self.hidden, layers.TANH), layout.outputs, gain=_HEAD_GAIN),
            layout,
        )
        return net

    def shape_in_words(self, state: ForecasterState) -> str:
        """What the network is, in a few words."""
        return f"Network of {len(state.facts['names'])} features and {self.hidden} hidden units"


class ConvolutionalNetwork(LearnedNetwork):
    """A few filters along the window, pooled, then dense layers."""

    title: ClassVar[str] = "convolutional network"
    kind: Literal["convolutional_network"] = "convolutional_network"
    filters: Width = Field(16, title="Filters")
    normed: bool = Field(False, title="Batch normalisation", json_schema_extra=ADVANCED)
    taps: int = Field(5, ge=1, le=256, title="Points a filter sees")
    pool: int = Field(2, ge=1, le=64, title="Points pooled", description="1: none.")
    pooling: Literal["largest", "mean"] = Field("largest", title="Pooled by")
    hidden: Width = Field(64, title="Units of the dense layer", description="The next one has half as many.")

    def build(self, layout: Layout) -> Network:
        """The network, its output (n_outputs,)."""
        net = Network(layout.width)
        one = net.convolution(net.taken(0, layout.window), self.filters, self.taps, activation=layers.RELU)
        one = net.batch_norm(one) if self.normed else one
        if 1 < self.pool <= net.shape(one)[0]:
            one = net.most(one, self.pool) if self.pooling == "largest" else net.mean(one, self.pool)
        _head(net, net.flat(one), layout, self.hidden)
        return net

    def shape_in_words(self, state: ForecasterState) -> str:
        """What the network is, in a few words."""
        return f"{self.filters} filters over {self.taps} of {state.facts['window']} points"


class DilatedNetwork(LearnedNetwork):
    """Causal convolutions whose points lie ever further apart, each added to what it read (Bai et al. 2018)."""

    title: ClassVar[str] = "dilated convolutions"
    kind: Literal["dilated_network"] = "dilated_network"
    channels: Width = Field(16, title="Channels")
    taps: int = Field(3, ge=2, le=16, title="Points a layer sees")
    dropout: float = Field(0.0, ge=0, lt=1, title="Dropout", json_schema_extra=ADVANCED)
    hidden: Width = Field(64, title="Units of the dense layer", description="The next one has half as many.")

    def dilations(self, window: int) -> list[int]:
        """Distances of the layers' points, until the last step sees the whole window."""
        found, sees = [1], self.taps
        while sees < window:
            found.append(2 * found[-1])
            sees += (self.taps - 1) * found[-1]
        return found

    def build(self, layout: Layout) -> Network:
        """The network, its output (n_outputs,)."""
        net = Network(layout.width)
        one = net.dense(net.taken(0, layout.window), self.channels)
        for _ in self.dilations(layout.window):  # the last step sees but every second one, then every fourth, …
            inner = net.convolution(one, self.channels, self.taps, stride=2, activation=layers.RELU)
            one = net.added(net.thinned(one, 2), net.dropout(inner, self.dropout))
        _head(net, net.last(one), layout, self.hidden)
        return net

    def shape_in_words(self, state: ForecasterState) -> str:
        """What the network is, in a few words."""
        far = self.dilations(state.facts["window"])[-1]
        return f"Convolutions up to {far} apart over {state.facts['window']} points"


class RecurrentNetwork(LearnedNetwork):
    """A recurrence reads the window point by point; its last state is what the forecast is made from."""

    title: ClassVar[str] = "recurrent network"
    cost: ClassVar[float] = 250.0
    kind: Literal["recurrent_network"] = "recurrent_network"
    cell: Literal["lstm", "gru", "plain"] = Field("gru", title="Cell")
    units: Width = Field(
        32, title="Units", json_schema_extra={"search": {"low": 8, "high": 64, "log": True, "whole": True}}
    )
    depth: int = Field(1, ge=1, le=4, title="Layers")
    piece: int = Field(2, ge=1, le=64, title="Points per step", description="How many it reads at once.")
    hidden: Width = Field(64, title="Units of the dense layer", description="The next one has half as many.")

    def build(self, layout: Layout) -> Network:
        """The network, its output (n_outputs,)."""
        net = Network(layout.width)
        one = _pieces(net, layout, self.piece)
        for _ in range(self.depth):
            one = net.recurrent(one, self.units, self.cell)
        _head(net, net.last(one), layout, self.hidden)
        return net

    def shape_in_words(self, state: ForecasterState) -> str:
        """What the network is, in a few words."""
        name = {"lstm": "LSTM", "gru": "GRU", "plain": "Recurrence"}[self.cell]
        return f"{name} of {self.units} units over {state.facts['window']} points"


class AttentionNetwork(LearnedNetwork):
    """Every point of the window gathers from those before it what it needs (Vaswani et al. 2017)."""

    title: ClassVar[str] = "attention network"
    version: ClassVar[int] = 4
    cost: ClassVar[float] = 400.0
    kind: Literal["attention_network"] = "attention_network"
    width: Width = Field(32, title="Numbers per point")
    heads: int = Field(4, ge=1, le=16, title="Heads")
    depth: int = Field(1, ge=1, le=6, title="Layers")
    piece: int = Field(4, ge=1, le=64, title="Points per step", description="How many are one step of attention.")
    causal: bool = Field(True, title="Only what lies before", description="Each point sees itself and earlier ones.")
    dropout: float = Field(0.0, ge=0, lt=1, title="Dropout", json_schema_extra=ADVANCED)
    hidden: Width = Field(64, title="Units of the dense layer", description="The next one has half as many.")
    warm_up: int = Field(2, ge=0, title="Epochs of warming up", json_schema_extra=ADVANCED)

    def build(self, layout: Layout) -> Network:
        """The network, its output (n_outputs,)."""
        net = Network(layout.width)
        width = self.heads * -(-self.width // self.heads)
        one = net.position(net.dense(_pieces(net, layout, self.piece), width))
        if layout.beside:  # every step knows the other features, so that they can tell where to look
            beside = net.dense(net.taken(layout.window, 1, layout.beside), width)
            one = net.added(one, net.repeated(beside, net.shape(one)[0]))
        for place in range(self.depth):
            last = place == self.depth - 1  # nothing later reads the other steps
            seen = net.attention(net.norm(one), self.heads, self.causal, last)
            one = net.added(net.last(one) if last else one, seen)
            inner = net.dropout(net.dense(net.norm(one), 2 * width, layers.RELU), self.dropout)
            one = net.added(one, net.dense(inner, width, gain=0.5))
        _head(net, net.norm(one), layout, self.hidden)
        return net

    def shape_in_words(self, state: ForecasterState) -> str:
        """What the network is, in a few words."""
        return f"Attention with {self.heads} heads over {state.facts['window']} points"


class BasisNetwork(LearnedNetwork):
    """Blocks that each explain part of the window and hand on the rest (Oreshkin et al. 2020): a trend, waves, and
    whatever else."""

    title: ClassVar[str] = "basis network"
    kind: Literal["basis_network"] = "basis_network"
    blocks: tuple[Literal["trend", "waves", "free"], ...] = Field(
        ("trend", "waves", "free", "free"), title="Blocks", min_length=1, max_length=20
    )
    units: Width = Field(64, title="Units of a block's layers")
    depth: int = Field(2, ge=1, le=8, title="Layers of a block")
    degree: int = Field(2, ge=0, le=6, title="Degree of the trend", json_schema_extra=ADVANCED)
    waves: int = Field(8, ge=1, le=200, title="Waves at most", json_schema_extra=ADVANCED)

    def build(self, layout: Layout) -> Network:
        """The network, its output (n_outputs,)."""
        net = Network(layout.width)
        rest = net.taken(0, 1, layout.window)
        beside = net.taken(layout.window, 1, layout.beside) if layout.beside else None
        for column, count in layout.categories:
            assert beside is not None
            beside = net.joined(beside, net.embedded(net.taken(column, 1), count, layout.embedding, count))
        total: int | None = None
        for block in self.blocks:
            one = rest if beside is None else net.joined(rest, beside)
            for _ in range(self.depth):
                one = net.dense(one, self.units, layers.RELU)
            behind, ahead = self._bases(block, layout)
            explained, said = (
                net.dense(one, layout_size, gain=_HEAD_GAIN) if basis is None
                else net.basis(net.dense(one, len(basis), gain=_HEAD_GAIN), basis)
                for basis, layout_size in ((behind, layout.window), (ahead, layout.outputs))
            )  # fmt: skip
            rest = net.without(rest, explained)
            total = said if total is None else net.added(total, said)
        assert total is not None
        _with_line(net, total, layout)
        return net

    def _bases(self, block: str, layout: Layout) -> tuple[Floats | None, Floats | None]:
        """Rows that a block's numbers weigh, over the window and the steps ahead; None where any shape will do."""
        if block == "free":
            return None, None
        time = np.arange(-layout.window + 1, layout.steps + 1) / max(layout.window, layout.steps)
        if block == "trend":
            rows = np.array([time**power for power in range(self.degree + 1)])
        else:
            count = min(self.waves, max(layout.window // 2, 1))
            turns = 2 * np.pi * np.arange(1, count + 1)[:, None] * np.arange(len(time)) / layout.window
            rows = np.concatenate([np.cos(turns), np.sin(turns)])
        ahead: Floats = np.kron(rows[:, layout.window :], np.eye(layout.says))  # each number that is told has its own
        return rows[:, : layout.window], ahead

    def shape_in_words(self, state: ForecasterState) -> str:
        """What the network is, in a few words."""
        return f"{len(self.blocks)} blocks over {state.facts['window']} points"


class DecompositionNetwork(LearnedNetwork):
    """The window's moving average and the rest of it, each with a line to the steps ahead (Zeng et al. 2023)."""

    title: ClassVar[str] = "linear decomposition"
    cost: ClassVar[float] = 60.0
    kind: Literal["decomposition_network"] = "decomposition_network"
    smooth: int = Field(25, ge=2, le=10_000, title="Points of the moving average")
    level: Literal["auto", "series", "window"] = Field(
        "window",
        title="Centred by",
        description="Series or window, which follows a level that moves; auto: by what a line errs.",
    )

    def build(self, layout: Layout) -> Network:
        """The network, its output (n_outputs,)."""
        net = Network(layout.width)
        window = net.taken(0, layout.window)
        slow = net.smooth(window, min(self.smooth, layout.window))
        parts = [net.flat(slow), net.flat(net.without(window, slow))]
        said = net.added(*(net.dense(part, layout.outputs, gain=_HEAD_GAIN) for part in parts))
        _with_line(net, said, layout)
        return net

    def shape_in_words(self, state: ForecasterState) -> str:
        """What the network is, in a few words."""
        return f"Two lines over {state.facts['window']} points"
