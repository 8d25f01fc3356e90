"""What trained networks say together, as graphs: mean or median of repeats, quantiles, and spreads."""

from dataclasses import dataclass

import numpy as np

from proteron.core.forecasters.exchange.graph import Asked, Told
from proteron.core.forecasters.exchange.network_graph import write_network, write_quantiles, write_spreads
from proteron.core.forecasters.neural.network import Network
from proteron.core.panel import Floats


@dataclass(frozen=True)
class ToldByRepeats:
    """What `count` repeats say, (n_repeats, n_rows, n_steps, n_told)."""

    asked: Asked
    every: str
    count: int
    sizes: tuple[int, int]  # steps, numbers told of each
    median: bool

    @classmethod
    def of(
        cls, asked: Asked, network: Network, repeats: Floats, seen: str, sizes: tuple[int, int], median: bool
    ) -> "ToldByRepeats":
        """Of a network with parameters (n_repeats, n_parameters), asked about inputs that are `seen`."""
        graph = asked.graph
        inputs = graph.cast(seen, np.float32)
        told = [graph.shaped(write_network(graph, network, each, inputs), 1, -1, *sizes) for each in repeats]
        every = graph.cast(graph.node("Concat", *told, axis=0), np.float64)
        return cls(asked, every, len(told), sizes, median)

    def counts(self) -> Told:
        """Means of counts, told in the series' mean."""
        asked, graph = self.asked, self.asked.graph
        means = graph.node("Softplus", graph.gathered(self.every, 0, 3))
        unit = graph.node("Where", graph.node("Greater", asked.level, asked.number(0.0)), asked.level,
                          asked.number(1.0))  # fmt: skip
        return {"mean": (graph.node("Mul", self._average(means), unit), ("rows", self.sizes[0]))}

    def values(self, middle: int, unit: tuple[str, str], loss: str) -> Told:
        """Forecasts, number `middle` of what is told, in the `unit` (offset, scale) of windows; with quantiles, or the
        spread of a normal distribution, where they were learned."""
        graph, (steps, says) = self.asked.graph, self.sizes
        mean = self._original(self._average(graph.gathered(self.every, middle, 3)), unit, 0)
        out: Told = {"mean": (mean, ("rows", steps))}
        if loss == "quantiles":
            values = graph.over("ReduceMean", write_quantiles(graph, self.every, says), 0)
            out["quantiles"] = (self._original(values, unit, 1), ("rows", steps, says))
        elif loss == "gaussian":
            spreads = write_spreads(graph, graph.gathered(self.every, 1, 3))
            centre = graph.gathered(self.every, 0, 3)
            apart = graph.node("Sub", centre, graph.over("ReduceMean", centre, 0, keep=True))
            squares = graph.node("Add", graph.node("Mul", spreads, spreads), graph.node("Mul", apart, apart))
            total = graph.node("Sqrt", graph.over("ReduceMean", squares, 0))
            wide = graph.node("Mul", graph.node("Mul", total, unit[1]), self.asked.spread)
            out["deviation"] = (wide, ("rows", steps))
        return out

    def _original(self, one: str, unit: tuple[str, str], width: int) -> str:
        """From the unit of windows, and of series, to that of the values."""
        graph, shape = self.asked.graph, (1, 1) if width else (1,)
        for offset, scale in (unit, (self.asked.level, self.asked.spread)):
            by_scale, by_offset = (graph.shaped(each, -1, *shape) for each in (scale, offset))
            one = graph.node("Add", graph.node("Mul", one, by_scale), by_offset)
        return one

    def _average(self, said: str) -> str:
        """The mean or median of what repeats said, along the first axis."""
        graph = self.asked.graph
        if self.median:
            every = graph.constant([self.count], np.int64)
            ordered = graph.node("TopK", said, every, count=2, axis=0)
            said = graph.gathered(ordered, sorted({(self.count - 1) // 2, self.count // 2}), 0)
        return graph.over("ReduceMean", said, 0)
