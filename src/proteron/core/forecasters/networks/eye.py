"""How networks read the features of windows, and how they tell what they say in the windows' own scale."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from proteron.core.forecasters.exchange.graph import Asked
from proteron.core.forecasters.window_forecaster import latest_lags, spread_of
from proteron.core.panel import Floats
from proteron.core.timeline import Ints
from proteron.core.windows import Table, WindowPlan

_FLATTEST = 0.01  # of a series' spread: a window is not stretched further


@dataclass(frozen=True)
class Eye:
    """How features are read: columns in a network's order, in spreads from their mean; with `level` “window”, those
    that move or scale with a series, and targets, in spreads from the mean of the `latest` lags before that."""

    order: Ints
    latest: int
    window: int
    moves: Floats
    scales: NDArray[np.bool_]
    centre: Floats
    spread: Floats
    level: str

    @classmethod
    def of(
        cls, table: Table, order: Ints, window: int, level: str, rows: NDArray[np.bool_], numbered: Mapping[int, int]
    ) -> "Eye":
        """As some rows of a table say; lags stay as they are but for the level, and columns that are `numbered` are
        told as shares of how many there are."""
        assert isinstance(table.plan, WindowPlan)
        lags, width = len(table.plan.lags), len(table.names)
        moves, scales = units_of(table.plan)
        latest = window or max(latest_lags(table.plan), 1)
        eye = cls(order, latest, window, moves, scales, np.zeros(width), np.ones(width), level)
        for column in range(lags, width):  # one by one, so that no copy of the table is made
            cells = table.features[rows, column]
            if level == "window":
                if column == lags:
                    offset, scale = eye.levels(table.features, rows)
                cells = (cells - offset * moves[column]) / (scale if scales[column] else 1.0)
            eye.centre[column], eye.spread[column] = cells.mean(), float(spread_of(cells))
        for column, count in numbered.items():
            eye.centre[column], eye.spread[column] = 0.0, count
        return eye

    def levels(self, features: Floats, rows: NDArray[np.bool_]) -> tuple[Floats, Floats]:
        """Level and spread of the windows of chosen rows, (n_chosen,) each."""
        found = [self.apart(features[chosen])[1:] for _, chosen in pieces_of(rows)]
        return np.concatenate([each[0][:, 0] for each in found]), np.concatenate([each[1][:, 0] for each in found])

    def apart(self, features: Floats) -> tuple[Floats, Floats, Floats]:
        """Features (n_rows, n_features) from the level and in the spread of their window, and both, (n_rows, 1)."""
        offset, scale = np.zeros((len(features), 1)), np.ones((len(features), 1))
        if self.level != "window":
            return features, offset, scale
        latest = features[:, : self.latest]
        offset, scale = latest.mean(axis=1, keepdims=True), latest.std(axis=1, keepdims=True)
        scale = np.maximum(scale, _FLATTEST)
        offset, scale = (np.where(np.isfinite(each), each, place) for each, place in ((offset, 0.0), (scale, 1.0)))
        return (features - offset * self.moves) / np.where(self.scales, scale, 1.0), offset, scale

    def see(self, features: Floats) -> tuple[Floats, Floats, Floats]:
        """Inputs (n_rows, n_features), and offset and scale (n_rows, 1) of targets; a missing cell becomes 0."""
        moved, offset, scale = self.apart(features)
        seen = (moved - self.centre) / self.spread
        return np.where(np.isnan(seen), 0.0, seen)[:, self.order], offset, scale

    def write(self, asked: Asked) -> tuple[str, str, str]:
        """As `see`, by operators."""
        graph, number = asked.graph, asked.number
        zeros = graph.node("Mul", asked.level, number(0.0))
        moved, offset, scale = asked.features, zeros, graph.node("Add", zeros, number(1.0))
        if self.level == "window":
            latest = graph.cut(asked.features, 0, self.latest, 1)
            mean = graph.over("ReduceMean", latest, 1, keep=True)
            apart = graph.node("Sub", latest, mean)
            spread = graph.node("Sqrt", graph.over("ReduceMean", graph.node("Mul", apart, apart), 1, keep=True))
            missing = graph.node("IsNaN", mean)
            offset = graph.node("Where", missing, number(0.0), mean)
            scale = graph.node("Where", missing, number(1.0), graph.node("Max", spread, number(_FLATTEST)))
            centred = graph.node("Sub", asked.features, graph.node("Mul", offset, number(self.moves[None])))
            each = graph.node("Where", graph.constant(self.scales[None], np.bool_), scale, number(1.0))
            moved = graph.node("Div", centred, each)
        seen = graph.node("Div", graph.node("Sub", moved, number(self.centre)), number(self.spread))
        known = graph.node("Where", graph.node("IsNaN", seen), number(0.0), seen)
        return graph.gathered(known, self.order, 1), offset, scale


def units_of(plan: WindowPlan) -> tuple[Floats, NDArray[np.bool_]]:
    """By how much a column moves with a series' level, and whether it is in a series' unit, (n_features,) each."""
    units = plan.units
    own = np.array([not each.as_scaled for each in units])
    moves = np.array([float(each.moves) for each in units])
    return np.where(own, moves, 0.0), own & np.array([bool(each.scales) for each in units])


def pieces_of(rows: NDArray[np.bool_], size: int = 8192) -> list[tuple[slice, Ints]]:
    """Chosen rows some thousand at a time, with their place among all chosen."""
    chosen = np.flatnonzero(rows)
    return [(slice(at, at + size), chosen[at : at + size]) for at in range(0, len(chosen), size)]
