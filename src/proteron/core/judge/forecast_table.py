"""All forecasts of an experiment as one long table."""

from collections.abc import Iterable

import numpy as np
import pyarrow as pa

from proteron.core.judge.cell import CellResult
from proteron.core.judge.yardsticks import scored_truth
from proteron.core.panel import Panel
from proteron.core.timeline import Instants


def forecast_table(panel: Panel, results: Iterable[CellResult]) -> pa.Table:
    """A row per entrant, fold, series, origin and step ahead.

    `origin` is the last moment known, `time` the one forecast (both UTC), `step` how many steps ahead of the origin;
    `lower_80` and `upper_80` are the ends of the 80 % range, for every level there is. `truth` is null where a point is
    not scored, `mean` where there is no forecast.
    """
    tables = [_of_cell(panel, each) for each in results]
    return pa.concat_tables(tables, promote_options="default") if tables else pa.table({})


def _moments(times: Instants) -> pa.Array:
    return pa.array(times).cast(pa.timestamp("ms")).cast(pa.timestamp("ms", "UTC"))


def _of_cell(panel: Panel, result: CellResult) -> pa.Table:
    cell, place = result.cell, result.cell.place
    truth = scored_truth(panel.select(cell.series), place)
    series, origins, horizon = result.mean.shape
    step = np.arange(horizon)
    position = result.origins[:, None] + place.gap + step
    shape = (series, origins, horizon)

    def spread(values: object, axis: int) -> np.ndarray:
        index = [None, None, None]
        index[axis] = slice(None)  # type: ignore[call-overload]
        return np.broadcast_to(np.asarray(values)[tuple(index)], shape).reshape(-1)

    rows = series * origins * horizon
    columns: dict[str, object] = {
        "contender": pa.DictionaryArray.from_arrays(pa.array(np.zeros(rows, dtype=np.int32)), [cell.name]),
        "key": pa.array(np.array(panel.keys)[spread(cell.series, 0)]),
        "fold": pa.array(np.full(rows, cell.fold + 1, dtype=np.int32)),
        "origin": _moments(spread(panel.axis.times(result.origins - 1), 1)),
        "step": pa.array(spread(place.gap + 1 + step, 2).astype(np.int32)),
        "time": _moments(np.broadcast_to(panel.axis.times(position), shape).reshape(-1)),
        "mean": pa.array(result.mean.reshape(-1), from_pandas=True),
        "truth": pa.array(truth.reshape(-1), from_pandas=True),
    }
    for level, ends in zip(cell.levels, result.ranges, strict=True):
        for name, end in zip(("lower", "upper"), ends, strict=True):
            columns[f"{name}_{100 * level:g}"] = pa.array(end.reshape(-1), from_pandas=True)
    return pa.table(columns)
