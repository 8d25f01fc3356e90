"""Layers over memory: what each does forward, and back with the flow (gradient of the loss) of every tensor.

A layer is bound once to its tensors, flows, parameters and their gradients, all views of buffers for so many rows; then
a batch costs calls of compiled loops and nothing else. Every `bind_…` gives the two calls of a kind of layer.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.forecasters.neural import layers
from proteron.core.panel import Floats
from proteron.core.timeline import Ints

_SLOWLY = 0.1  # of what a batch says of running means
Call = Callable[[], object]
Calls = tuple[Call, Call]


@dataclass
class Drawing:
    """Whether a network learns just now, and what it draws from then."""

    rng: np.random.Generator
    learning: bool = False


@dataclass(frozen=True)
class Views:
    """What a layer reads and writes: tensors (n_rows, n_steps, n_channels) with their flows, parameters (n,) with
    their gradient; `from_data` where nobody wants the flow of what it reads."""

    one: Floats
    by_one: Floats
    other: Floats
    by_other: Floats
    out: Floats
    flow: Floats
    mine: Floats
    by_mine: Floats
    from_data: bool
    drawing: Drawing

    def parts(self, *shapes: Sequence[int]) -> list[tuple[Floats, Floats]]:
        """Parameters and their gradients, cut into such shapes."""
        stops = np.cumsum([int(np.prod(shape)) for shape in shapes])
        pairs = zip([0, *stops[:-1]], stops, shapes, strict=True)
        return [(self.mine[a:b].reshape(shape), self.by_mine[a:b].reshape(shape)) for a, b, shape in pairs]

    @property
    def precision(self) -> np.dtype:
        return self.out.dtype


def _rows(series: Floats) -> Floats:
    """All steps of all rows one below the other."""
    return series.reshape(-1, series.shape[2])


def bind_take(views: Views, first: int) -> Calls:
    """Channels of the input from `first` on, as steps."""
    _, steps, width = views.out.shape
    read, by_read = (each[:, 0, first : first + steps * width] for each in (views.one, views.by_one))
    out, flow = views.out.reshape(read.shape), views.flow.reshape(read.shape)

    def forward() -> None:
        out[:] = read

    def backward() -> None:
        if not views.from_data:
            by_read[:] += flow

    return forward, backward


def bind_dense(views: Views, activation: int) -> Calls:
    """The same weights at every step."""
    rows, by_rows, out, flow = _rows(views.one), _rows(views.by_one), _rows(views.out), _rows(views.flow)
    (weights, by_weights), (biases, by_biases) = views.parts((rows.shape[1], out.shape[1]), (out.shape[1],))
    return (
        lambda: layers.dense(rows, weights, biases, activation, out),
        lambda: layers.dense_back(
            rows, weights, out, activation, flow, by_weights, by_biases, by_rows, views.from_data
        ),
    )  # fmt: skip


def bind_convolution(views: Views, taps: int, dilation: int, stride: int, activation: int) -> Calls:
    """Causal: every step sees itself and steps before it."""
    inner, out, flow = taps * views.one.shape[2], _rows(views.out), _rows(views.flow)
    seen = np.empty((*views.out.shape[:2], inner), dtype=views.precision)
    by_seen = np.empty_like(seen)
    (weights, by_weights), (biases, by_biases) = views.parts((inner, out.shape[1]), (out.shape[1],))

    def forward() -> None:
        layers.unfold(views.one, taps, dilation, stride, seen)
        layers.dense(_rows(seen), weights, biases, activation, out)

    def backward() -> None:
        by_seen[:] = 0
        layers.dense_back(
            _rows(seen), weights, out, activation, flow, by_weights, by_biases, _rows(by_seen), views.from_data
        )
        if not views.from_data:
            layers.fold(by_seen, taps, dilation, stride, views.by_one)

    return forward, backward


def bind_most(views: Views, size: int) -> Calls:
    """The largest of every `size` steps."""
    kept = np.empty_like(views.out)
    return (
        lambda: layers.pool_most(views.one, size, views.out, kept),
        lambda: layers.pool_most_back(views.flow, kept, views.by_one),
    )


def bind_mean(views: Views, size: int) -> Calls:
    """The mean of every `size` steps."""
    return (
        lambda: layers.pool_mean(views.one, size, views.out),
        lambda: layers.pool_mean_back(views.flow, size, views.by_one),
    )


def bind_smooth(views: Views, window: int) -> Calls:
    """The mean of `window` steps around each."""
    return (
        lambda: layers.smooth(views.one, window, views.out),
        lambda: layers.smooth_back(views.flow, window, views.by_one),
    )


@kernel
def turned(series: Floats, out: Floats, add: bool) -> None:
    """Rows and steps change places: (n, m, width) into out (m, n, width), or added to it."""
    for row in range(series.shape[0]):
        for step in range(series.shape[1]):
            for i in range(series.shape[2]):
                out[step, row, i] = out[step, row, i] + series[row, step, i] if add else series[row, step, i]


class _Recurrence:
    """What recurrences share: time comes first in all they keep, and one product drives all steps."""

    def __init__(self, views: Views, gates: int, *more: Sequence[int]) -> None:
        self.views = views
        rows, steps, channels = views.one.shape
        width = views.out.shape[2]
        self.wide = gates * width
        shapes = ((channels, self.wide), (width, self.wide), (self.wide,), *more)
        (self.into, self.by_into), (self.weights, self.by_weights), (self.biases, self.by_biases), *rest = views.parts(
            *shapes
        )
        self.rest = rest
        self.read = np.empty((steps, rows, channels), dtype=views.precision)
        self.drive = np.empty((steps, rows, self.wide), dtype=views.precision)
        self.states = np.zeros((steps + 1, rows, width), dtype=views.precision)
        self.along = np.empty_like(self.states)

    def start(self) -> None:
        turned(self.views.one, self.read, False)
        layers.dense(_rows(self.read), self.into, self.biases, layers.NONE, _rows(self.drive))

    def end(self) -> None:
        turned(self.states[1:], self.views.out, False)

    def start_back(self) -> None:
        self.along[0] = 0
        turned(self.views.flow, self.along[1:], False)

    def end_back(self) -> None:
        flat = _rows(self.drive)
        layers.add_columns(flat, self.by_biases)
        np.dot(_rows(self.read).T, flat, self.by_into)
        if not self.views.from_data:
            turned((flat @ self.into.T).reshape(self.read.shape), self.views.by_one, True)


def bind_plain(views: Views) -> Calls:
    """The simplest recurrence."""
    its = _Recurrence(views, 1)

    def forward() -> None:
        its.start()
        layers.plain(its.drive, its.weights, its.states)
        its.end()

    def backward() -> None:
        its.start_back()
        layers.plain_back(its.drive, its.weights, its.states, its.along, its.by_weights)
        its.end_back()

    return forward, backward


def bind_lstm(views: Views) -> Calls:
    """Long short-term memory."""
    its = _Recurrence(views, 4)
    cells = np.zeros_like(its.states)

    def forward() -> None:
        its.start()
        layers.lstm(its.drive, its.weights, its.states, cells)
        its.end()

    def backward() -> None:
        its.start_back()
        layers.lstm_back(its.drive, its.weights, its.states, cells, its.along, its.by_weights)
        its.end_back()

    return forward, backward


def bind_gru(views: Views) -> Calls:
    """The gated recurrent unit."""
    its = _Recurrence(views, 3, (views.out.shape[2],))
    ((biases, by_biases),) = its.rest
    said = np.empty_like(its.states[1:])

    def forward() -> None:
        its.start()
        layers.gru(its.drive, its.weights, biases, its.states, said)
        its.end()

    def backward() -> None:
        its.start_back()
        layers.gru_back(its.drive, its.weights, its.states, said, its.along, its.by_weights, by_biases)
        its.end_back()

    return forward, backward


@kernel
def to_heads(series: Floats, heads: int, first: int, out: Floats) -> None:
    """Channels from `first` on of the last steps of (n_rows, n_steps, …) as (n_rows · n_heads, n_last, width)."""
    before = series.shape[1] - out.shape[1]
    for row in range(series.shape[0]):
        for head in range(heads):
            for step in range(out.shape[1]):
                for i in range(out.shape[2]):
                    out[row * heads + head, step, i] = series[row, before + step, first + head * out.shape[2] + i]


@kernel
def from_heads(parts: Floats, heads: int, first: int, out: Floats, add: bool) -> None:
    """The reverse of `to_heads`, or added to what is there."""
    before = out.shape[1] - parts.shape[1]
    for row in range(out.shape[0]):
        for head in range(heads):
            for step in range(parts.shape[1]):
                for i in range(parts.shape[2]):
                    at = first + head * parts.shape[2] + i
                    told = parts[row * heads + head, step, i]
                    out[row, before + step, at] = out[row, before + step, at] + told if add else told


def bind_attention(views: Views, heads: int, causal: int) -> Calls:
    """What the last steps, as many as it makes, gather from all, of queries, keys and values side by side."""
    rows, last, width = views.out.shape
    steps = views.one.shape[1]
    counts = (last, steps, steps)  # of queries, keys, values
    three, by_three = (
        [np.empty((rows * heads, count, width // heads), dtype=views.precision) for count in counts] for _ in range(2)
    )
    seen, shares = np.empty_like(three[0]), np.empty((rows * heads, last, steps), dtype=views.precision)

    def forward() -> None:
        for place, each in enumerate(three):
            to_heads(views.one, heads, place * width, each)
        layers.attend(three[0], three[1], three[2], causal == 1, seen, shares)
        from_heads(seen, heads, 0, views.out, False)

    def backward() -> None:
        to_heads(views.flow, heads, 0, seen)
        layers.attend_back(three[0], three[1], three[2], shares, seen, by_three[0], by_three[1], by_three[2])
        for place, each in enumerate(by_three):
            from_heads(each, heads, place * width, views.by_one, True)

    return forward, backward


def bind_position(views: Views) -> Calls:
    """What is learned of every step by its place, added."""
    ((places, by_places),) = views.parts(views.out.shape[1:])

    def backward() -> None:
        np.sum(views.flow, axis=0, out=by_places)
        views.by_one[:] += views.flow

    return (lambda: np.add(views.one, places, out=views.out)), backward


def bind_norm(views: Views) -> Calls:
    """Every step less its mean, over its spread."""
    rows, by_rows, out, flow = _rows(views.one), _rows(views.by_one), _rows(views.out), _rows(views.flow)
    (gains, by_gains), (biases, by_biases) = views.parts((rows.shape[1],), (rows.shape[1],))
    normed, kept = np.empty_like(out), np.empty(len(out), dtype=views.precision)
    return (
        lambda: layers.layer_norm(rows, gains, biases, out, normed, kept),
        lambda: layers.layer_norm_back(normed, kept, gains, flow, by_gains, by_biases, by_rows),
    )


def bind_batch_norm(views: Views) -> Calls:
    """Every channel less its mean, over its spread."""
    rows, by_rows, out, flow = _rows(views.one), _rows(views.by_one), _rows(views.out), _rows(views.flow)
    (gains, by_gains), (biases, by_biases), (means, by_means), (squares, by_squares) = views.parts(
        *[(rows.shape[1],)] * 4
    )
    normed, spread = np.empty_like(out), np.empty_like(gains)

    def forward() -> None:
        if views.drawing.learning:
            mean, square = rows.mean(axis=0), rows.var(axis=0)
            means[:] += _SLOWLY * (mean - means)
            squares[:] += _SLOWLY * (square - squares)
        else:
            mean, square = means, squares
        spread[:] = np.sqrt(square + 1e-5)
        np.divide(rows - mean, spread, out=normed)
        np.add(normed * gains, biases, out=out)

    def backward() -> None:
        np.sum(flow, axis=0, out=by_biases)
        np.sum(flow * normed, axis=0, out=by_gains)
        by_means[:] = by_squares[:] = 0
        if views.drawing.learning:
            by_rows[:] += gains / spread * (flow - (by_biases + normed * by_gains) / len(rows))
        else:
            by_rows[:] += gains / spread * flow

    return forward, backward


def bind_dropout(views: Views, share: float) -> Calls:
    """Some numbers are 0 while the network learns."""
    kept = np.ones_like(views.out)

    def forward() -> None:
        if views.drawing.learning:
            kept[:] = np.where(views.drawing.rng.random(kept.shape, dtype=np.float32) < share, 0, 1 / (1 - share))
            np.multiply(views.one, kept, out=views.out)
        else:
            kept[:] = 1
            views.out[:] = views.one

    def backward() -> None:
        views.by_one[:] += views.flow * kept

    return forward, backward


def bind_embedding(views: Views, count: int, scale: float) -> Calls:
    """What is learned of each category; one never met counts as the nearest number."""
    ((table, by_table),) = views.parts((count, views.out.shape[2]))

    def numbers() -> Ints:
        return np.clip(np.rint(views.one[:, 0, 0] * scale), 0, count - 1).astype(np.int64)

    def forward() -> None:
        views.out[:, 0] = table[numbers()]

    def backward() -> None:
        by_table[:] = 0
        np.add.at(by_table, numbers(), views.flow[:, 0])

    return forward, backward


def bind_repeat(views: Views) -> Calls:
    """One step at every one."""

    def forward() -> None:
        views.out[:] = views.one

    def backward() -> None:
        views.by_one[:] += views.flow.sum(axis=1, keepdims=True)

    return forward, backward


def bind_thin(views: Views, stride: int) -> Calls:
    """Every `stride`-th step, counted from the end."""
    first = (views.one.shape[1] - 1) % stride

    def forward() -> None:
        views.out[:] = views.one[:, first::stride]

    def backward() -> None:
        views.by_one[:, first::stride] += views.flow

    return forward, backward


def bind_last(views: Views) -> Calls:
    """The last step."""

    def forward() -> None:
        views.out[:, 0] = views.one[:, -1]

    def backward() -> None:
        views.by_one[:, -1] += views.flow[:, 0]

    return forward, backward


def bind_join(views: Views) -> Calls:
    """Channels of two tensors side by side."""
    width = views.one.shape[2]

    def forward() -> None:
        views.out[:, :, :width] = views.one
        views.out[:, :, width:] = views.other

    def backward() -> None:
        views.by_one[:] += views.flow[:, :, :width]
        views.by_other[:] += views.flow[:, :, width:]

    return forward, backward


def bind_sum(views: Views, sign: int) -> Calls:
    """The sum or the difference of two tensors."""
    combine = np.add if sign > 0 else np.subtract

    def backward() -> None:
        views.by_one[:] += views.flow
        combine(views.by_other, views.flow, out=views.by_other)

    return (lambda: combine(views.one, views.other, out=views.out)), backward


def bind_basis(views: Views, matrix: Floats) -> Calls:
    """A product with a matrix that is not learned."""
    fixed = np.ascontiguousarray(matrix, dtype=views.precision)

    def backward() -> None:
        by_rows = _rows(views.by_one)
        by_rows += np.dot(_rows(views.flow), fixed.T)

    return (lambda: np.dot(_rows(views.one), fixed, out=_rows(views.out))), backward
