"""What the units of a network see of its input, layer by layer, and how much each layer weighs."""

from collections.abc import Callable
from dataclasses import dataclass

from proteron.core.forecasters.neural import bound
from proteron.core.forecasters.neural.network import Layer, Network

Span = tuple[int, int]  # first and last input that is seen
Spans = list[Span]  # of every step


@dataclass(frozen=True)
class LayerSight:
    """A layer: steps and channels of what it makes, its weights, and what of the input every step sees."""

    title: str
    steps: int
    channels: int
    weights: int
    spans: tuple[Span, ...]


def sights(network: Network) -> list[LayerSight]:
    """Every layer of a network in the order it is computed."""
    seen: dict[int, Spans] = {0: [(0, network.width - 1)]}
    found = []

    def of(tensor: int) -> Spans:
        if tensor not in seen:  # the same numbers as one step
            start = network.shapes[tensor][0]
            same = next(each for each in seen if network.shapes[each][0] == start)
            seen[tensor] = [_union(seen[same])]
        return seen[tensor]

    for layer in network.layers:
        steps, channels = network.shape(layer.out)
        seen[layer.out] = REACH.get(layer.bind, _as_read)(layer, of(layer.one), of(layer.other), steps, channels)
        found.append(LayerSight(layer.title, steps, channels, layer.count, tuple(seen[layer.out])))
    return found


def _union(spans: Spans) -> Span:
    return min(first for first, _ in spans), max(last for _, last in spans)


def _as_read(layer: Layer, one: Spans, other: Spans, steps: int, channels: int) -> Spans:
    return one


def _both(layer: Layer, one: Spans, other: Spans, steps: int, channels: int) -> Spans:
    return [_union([a, b]) for a, b in zip(one, other, strict=True)]


def _taken(layer: Layer, one: Spans, other: Spans, steps: int, channels: int) -> Spans:
    first = int(str(layer.extra[0]))
    return [(first + step * channels, first + (step + 1) * channels - 1) for step in range(steps)]


def _convolved(layer: Layer, one: Spans, other: Spans, steps: int, channels: int) -> Spans:
    taps, dilation, stride = (int(str(each)) for each in layer.extra[:3])
    out = []
    for step in range(steps):
        end = len(one) - 1 - (steps - 1 - step) * stride
        places = [end - tap * dilation for tap in range(taps)]
        out.append(_union([one[place] for place in places if place >= 0]))
    return out


def _pooled(layer: Layer, one: Spans, other: Spans, steps: int, channels: int) -> Spans:
    size = int(str(layer.extra[0]))
    ends = [len(one) - (steps - 1 - step) * size for step in range(steps)]
    return [_union(one[end - size : end]) for end in ends]


def _smoothed(layer: Layer, one: Spans, other: Spans, steps: int, channels: int) -> Spans:
    window = int(str(layer.extra[0]))
    firsts = [step - window // 2 for step in range(steps)]
    return [_union(one[max(first, 0) : max(first, 0) + window + min(first, 0)] or [one[step]])
            for step, first in enumerate(firsts)]  # fmt: skip


def _so_far(layer: Layer, one: Spans, other: Spans, steps: int, channels: int) -> Spans:
    before = len(one) - steps
    return [_union(one[: before + step + 1]) for step in range(steps)]


def _attended(layer: Layer, one: Spans, other: Spans, steps: int, channels: int) -> Spans:
    return _so_far(layer, one, other, steps, channels) if layer.extra[1] else [_union(one)] * steps


def _thinned(layer: Layer, one: Spans, other: Spans, steps: int, channels: int) -> Spans:
    stride = int(str(layer.extra[0]))
    return one[(len(one) - 1) % stride :: stride]


def _last(layer: Layer, one: Spans, other: Spans, steps: int, channels: int) -> Spans:
    return one[-1:]


def _repeated(layer: Layer, one: Spans, other: Spans, steps: int, channels: int) -> Spans:
    return one * steps


REACH: dict[Callable[..., bound.Calls], Callable[[Layer, Spans, Spans, int, int], Spans]] = {
    bound.bind_take: _taken, bound.bind_convolution: _convolved, bound.bind_most: _pooled, bound.bind_mean: _pooled,
    bound.bind_smooth: _smoothed, bound.bind_plain: _so_far, bound.bind_lstm: _so_far, bound.bind_gru: _so_far,
    bound.bind_attention: _attended, bound.bind_thin: _thinned, bound.bind_last: _last, bound.bind_repeat: _repeated,
    bound.bind_join: _both, bound.bind_sum: _both,
}  # fmt: skip
