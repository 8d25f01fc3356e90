"""Errors of point forecasts. Undefined cases are NaN, never infinite and never zero.

Every metric maps errors and truths of any shape to per-point losses and says how their mean is
turned into the reported number, so that boards can pool points over folds and series.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from proteron.core.panel import Floats


@dataclass(frozen=True)
class Metric:
    """`loss(error, truth, scale)` per point; `report` of the pooled mean."""

    name: str
    title: str
    unit_free: bool
    loss: Callable[[Floats, Floats, Floats], Floats]
    report: Callable[[Floats], Floats] = lambda pooled: pooled


def _smape(error: Floats, truth: Floats, scale: Floats) -> Floats:
    size = np.abs(truth) + np.abs(truth + error)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(size > 0, 200.0 * np.abs(error) / size, np.nan)


def _scaled(error: Floats, truth: Floats, scale: Floats) -> Floats:
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(scale > 0, np.abs(error) / scale, np.nan)


METRICS: dict[str, Metric] = {
    metric.name: metric
    for metric in (
        Metric("mae", "MAE", False, lambda error, truth, scale: np.abs(error)),
        Metric("rmse", "RMSE", False, lambda error, truth, scale: error**2, np.sqrt),
        # Hyndman & Koehler 2006: scaled by the in-sample error of the seasonal naive forecast.
        Metric("mase", "MASE", True, _scaled),
        # Makridakis 1993, in percent between 0 and 200; undefined where truth and forecast are zero.
        Metric("smape", "sMAPE", True, _smape),
    )
}


def naive_scale(known: Floats, season: int) -> float:
    """Mean absolute seasonal difference of known values (n_points,): the scale of MASE, NaN if undefined."""
    if len(known) <= season:
        return float("nan")
    changes = np.abs(known[season:] - known[:-season])
    present = changes[np.isfinite(changes)]
    return float(present.mean()) if len(present) else float("nan")
