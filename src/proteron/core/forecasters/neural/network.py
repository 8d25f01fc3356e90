"""Networks as lists of layers, built tensor by tensor, then bound to memory for so many rows.

Every tensor has steps and channels. All tensors of a batch lie one after the other in one buffer, their flows in
another, parameters and their gradient in two more.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np

from proteron.core.forecasters.neural import bound
from proteron.core.forecasters.neural.bound import Calls, Drawing, Views
from proteron.core.forecasters.neural.layers import NONE
from proteron.core.panel import Floats

Part = tuple[tuple[int, ...], float | Floats]  # the shape of parameters, and the spread, or what, they begin with


@dataclass(frozen=True)
class Layer:
    """A layer in its network: the tensors it reads and writes, and where its parameters begin."""

    title: str
    bind: Callable[..., Calls]
    one: int
    other: int
    out: int
    first: int
    parts: tuple[Part, ...]
    extra: tuple[object, ...]

    @property
    def count(self) -> int:
        """How many parameters it has."""
        return sum(int(np.prod(shape)) for shape, _ in self.parts)


@dataclass
class Network:
    """A network under construction: every method reads tensors by their number and gives the number of a new one.

    Tensor 0 is the input: one step of `width` channels. What the last layer makes is the output.
    """

    width: int
    shapes: list[tuple[int, int, int]] = field(default_factory=list)  # where a row's numbers begin, steps, channels
    layers: list[Layer] = field(default_factory=list)
    size: int = 0

    def __post_init__(self) -> None:
        self._tensor(1, self.width)

    def _tensor(self, steps: int, channels: int) -> int:
        self.shapes.append((self.size, steps, channels))
        self.size += steps * channels
        return len(self.shapes) - 1

    def _layer(
        self, title: str, bind: Callable[..., Calls], one: int, shape: tuple[int, int], extra: Sequence[object] = (),
        parts: Sequence[Part] = (), other: int = 0,
    ) -> int:  # fmt: skip
        out = self._tensor(*shape)
        self.layers.append(Layer(title, bind, one, other, out, self.count, tuple(parts), tuple(extra)))
        return out

    @property
    def count(self) -> int:
        """How many parameters there are."""
        return self.layers[-1].first + self.layers[-1].count if self.layers else 0

    def shape(self, tensor: int) -> tuple[int, int]:
        """Steps and channels of a tensor."""
        return self.shapes[tensor][1:]

    def taken(self, first: int, steps: int, channels: int = 1) -> int:
        """Channels of the input from `first` on, as so many steps."""
        return self._layer("input", bound.bind_take, 0, (steps, channels), (first,))

    def flat(self, tensor: int) -> int:
        """All steps of a tensor as channels of one: the same numbers in the same place."""
        start, steps, channels = self.shapes[tensor]
        self.shapes.append((start, 1, steps * channels))
        return len(self.shapes) - 1

    def dense(self, one: int, width: int, activation: int = NONE, gain: float = 1.0) -> int:
        """The same weights at every step; begins with the spread of He et al. (2015), times `gain`."""
        steps, channels = self.shape(one)
        parts: list[Part] = [((channels, width), gain * np.sqrt(2.0 / channels)), ((width,), 0.0)]
        return self._layer("dense", bound.bind_dense, one, (steps, width), (activation,), parts)

    def line(self, start: Floats, bias: Floats) -> int:
        """A straight line of the input, beginning as `start` (width, n_out) and `bias` (n_out,)."""
        parts: list[Part] = [(start.shape, start), (bias.shape, bias)]
        return self._layer("straight line", bound.bind_dense, 0, (1, start.shape[1]), (NONE,), parts)

    def convolution(
        self, one: int, width: int, taps: int, dilation: int = 1, stride: int = 1, activation: int = NONE
    ) -> int:
        """Causal: a step sees itself and `taps` - 1 before it, `dilation` apart; every `stride`-th step is kept."""
        steps, channels = self.shape(one)
        inner, shape = taps * channels, (-(-steps // stride), width)
        parts: list[Part] = [((inner, width), np.sqrt(2.0 / inner)), ((width,), 0.0)]
        return self._layer(
            "convolution", bound.bind_convolution, one, shape, (taps, dilation, stride, activation), parts
        )

    def most(self, one: int, size: int) -> int:
        """The largest of every `size` steps, counted from the end."""
        steps, channels = self.shape(one)
        return self._layer("largest of", bound.bind_most, one, (steps // size, channels), (size,))

    def mean(self, one: int, size: int) -> int:
        """The mean of every `size` steps, counted from the end."""
        steps, channels = self.shape(one)
        return self._layer("mean of", bound.bind_mean, one, (steps // size, channels), (size,))

    def smooth(self, one: int, window: int) -> int:
        """The mean of `window` steps around each, the ends repeated beyond the edges."""
        return self._layer("smoothing", bound.bind_smooth, one, self.shape(one), (window,))

    def recurrent(self, one: int, width: int, cell: str) -> int:
        """A recurrence over the steps: `plain`, `lstm` or `gru`; gives its state at every step."""
        steps, channels = self.shape(one)
        bind, gates = _RECURRENCES[cell]
        parts: list[Part] = [
            ((channels, gates * width), 1 / np.sqrt(channels)),
            ((width, gates * width), 1 / np.sqrt(width)),
            ((gates * width,), 0.0),
        ]
        if cell == "gru":
            parts.append(((width,), 0.0))
        return self._layer(cell, bind, one, (steps, width), (), parts)

    def attention(self, one: int, heads: int, causal: bool = True, last: bool = False) -> int:
        """What every step, or the last, gathers from others, in so many heads (Vaswani et al. 2017); joined by a dense
        layer."""
        steps, channels = self.shape(one)
        three, shape = self.dense(one, 3 * channels, gain=np.sqrt(0.5)), (1 if last else steps, channels)
        seen = self._layer("attention", bound.bind_attention, three, shape, (heads, int(causal)))
        return self.dense(seen, channels, gain=np.sqrt(0.5))

    def position(self, one: int) -> int:
        """Add what is learned of every step by its place."""
        return self._layer("position", bound.bind_position, one, self.shape(one), (), [(self.shape(one), 0.02)])

    def norm(self, one: int) -> int:
        """Every step less its mean, over its spread (Ba et al. 2016)."""
        steps, channels = self.shape(one)
        parts: list[Part] = [((channels,), np.ones(channels)), ((channels,), 0.0)]
        return self._layer("norm", bound.bind_norm, one, (steps, channels), (), parts)

    def dropout(self, one: int, share: float) -> int:
        """While learning, that share of numbers is 0 and the others are larger for it (Srivastava et al. 2014)."""
        return self._layer("dropout", bound.bind_dropout, one, self.shape(one), (share,)) if share else one

    def batch_norm(self, one: int) -> int:
        """Every channel less its mean, over its spread: those of the batch while learning, after it their running means
        (Ioffe & Szegedy 2015), which are the last two parts of its parameters."""
        steps, channels = self.shape(one)
        parts: list[Part] = [((channels,), np.full(channels, start)) for start in (1.0, 0.0, 0.0, 1.0)]
        return self._layer("batch norm", bound.bind_batch_norm, one, (steps, channels), (), parts)

    def embedded(self, one: int, count: int, width: int, scale: float = 1.0) -> int:
        """What is learned of each of `count` categories, whose numbers over `scale` the tensor's one channel holds."""
        parts: list[Part] = [((count, width), 0.1)]
        return self._layer("embedding", bound.bind_embedding, one, (1, width), (count, scale), parts)

    def repeated(self, one: int, steps: int) -> int:
        """A tensor of one step at every one of so many."""
        return self._layer("repeated", bound.bind_repeat, one, (steps, self.shape(one)[1]))

    def thinned(self, one: int, stride: int) -> int:
        """Every `stride`-th step, the last one among them."""
        steps, channels = self.shape(one)
        return self._layer(f"every {stride} steps", bound.bind_thin, one, (-(-steps // stride), channels), (stride,))

    def last(self, one: int) -> int:
        """The last step."""
        return self._layer("last step", bound.bind_last, one, (1, self.shape(one)[1]))

    def joined(self, one: int, other: int) -> int:
        """Channels of two tensors of as many steps, side by side."""
        steps, channels = self.shape(one)
        shape = (steps, channels + self.shape(other)[1])
        return self._layer("side by side", bound.bind_join, one, shape, other=other)

    def added(self, one: int, other: int) -> int:
        """The sum of two tensors of one shape."""
        return self._layer("sum", bound.bind_sum, one, self.shape(one), (1,), other=other)

    def without(self, one: int, other: int) -> int:
        """One tensor less another of the same shape."""
        return self._layer("difference", bound.bind_sum, one, self.shape(one), (-1,), other=other)

    def basis(self, one: int, matrix: Floats) -> int:
        """A product with a matrix (n_channels, n_out) that is not learned."""
        return self._layer("basis", bound.bind_basis, one, (self.shape(one)[0], matrix.shape[1]), (matrix,))

    def begin(self, rng: np.random.Generator) -> Floats:
        """Parameters to begin with, (n_parameters,)."""
        parts = [part for layer in self.layers for part in layer.parts]
        drawn = [
            start.ravel() if isinstance(start, np.ndarray) else rng.normal(size=shape).ravel() * start
            for shape, start in parts
        ]
        return np.concatenate(drawn)

    def bind(self, parameters: Floats, gradient: Floats, rows: int, drawing: Drawing, whole: bool = False) -> "Bound":
        """The network over so many rows; `parameters` and `gradient` (n_parameters,) are read and written in place.

        `whole`: the flow of the input is wanted too.
        """
        values, flows = (np.zeros(self.size * rows, dtype=parameters.dtype) for _ in range(2))

        def view(buffer: Floats, tensor: int) -> Floats:
            start, steps, channels = self.shapes[tensor]
            return buffer[start * rows : (start + steps * channels) * rows].reshape(rows, steps, channels)

        calls = [
            layer.bind(
                Views(
                    view(values, layer.one), view(flows, layer.one), view(values, layer.other),
                    view(flows, layer.other), view(values, layer.out), view(flows, layer.out),
                    parameters[layer.first : layer.first + layer.count],
                    gradient[layer.first : layer.first + layer.count],
                    layer.one == 0 and not whole, drawing,
                ),
                *layer.extra,
            )
            for layer in self.layers
        ]  # fmt: skip
        last = self.layers[-1].out
        return Bound(
            view(values, 0)[:, 0], view(values, last).reshape(rows, -1), view(flows, 0)[:, 0],
            view(flows, last).reshape(rows, -1), flows, tuple(calls),
        )  # fmt: skip


@dataclass(frozen=True)
class Bound:
    """A network over memory: input (n_rows, width) and output (n_rows, n_out), with their flows."""

    input: Floats
    output: Floats
    by_input: Floats
    by_output: Floats
    flows: Floats
    calls: tuple[Calls, ...]

    def forward(self) -> None:
        """Compute the output from the input."""
        for forward, _ in self.calls:
            forward()

    def back(self) -> None:
        """From the flow of the output, all others being 0, to the gradient."""
        for _, backward in reversed(self.calls):
            backward()


_RECURRENCES: dict[str, tuple[Callable[..., Calls], int]] = {
    "plain": (bound.bind_plain, 1), "lstm": (bound.bind_lstm, 4), "gru": (bound.bind_gru, 3),
}  # fmt: skip
