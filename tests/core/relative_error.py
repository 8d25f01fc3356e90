"""How far a contender errs from rolled origins, relative to the last value of the series without its season."""

from collections.abc import Callable, Sequence

import numpy as np
import reference_series as published

from proteron import Contender, Panel
from proteron.core.errors import ProteronError
from proteron.core.forecasters.smoothing.fit import seasonal_figure
from proteron.core.forecasters.smoothing.seasons import season_way, with_season, without_season

LEVELS = (0.8, 0.95)
AHEAD = {"hour": 48, "day": 14, "month": 18, "quarter": 8, "year": 6, "minute": 12}
STEPS = {"hour": "1h", "day": "1d", "month": "1mo", "quarter": "1q", "year": "1y", "minute": "1min"}

Series = tuple[str, str, np.ndarray]


def public_series() -> list[Series]:
    """Name, step and values of each published series."""
    steps = {
        "AIRLINE": "month", "DEATHS": "month", "LUNGS": "month", "TEMPERATURES": "month", "EARNINGS": "quarter",
        "GAS": "quarter", "PRODUCT": "quarter", "NILE": "year", "LAKE_HURON": "year", "SUNSPOTS": "year",
        "POPULATION": "year", "USERS": "minute",
    }  # fmt: skip
    return [(name, step, np.asarray(getattr(published, name))) for name, step in steps.items()]


def adjusted_last(values: np.ndarray, period: int, horizon: int) -> np.ndarray:
    """The last value of the series without its season, with the season put back, (horizon,)."""
    way = season_way(values, period, "auto")
    figure = seasonal_figure(values, period, way) if way else np.zeros(1)
    flat = without_season(values, figure, way)
    return with_season(np.full((1, horizon), flat[-1]), figure, way, np.array([len(values)]))[0]


def loss(truth: np.ndarray, mean: np.ndarray, scale: float) -> tuple[float, float]:
    """Symmetric percentage error and scaled error."""
    apart = np.abs(truth - mean)
    return float((2 * apart / np.maximum(np.abs(truth) + np.abs(mean), 1e-9)).mean()), float(apart.mean() / scale)


def measure(
    document: dict[str, object] | Contender, bank: Sequence[Series], tell: Callable[[str], None]
) -> dict[str, object]:
    """Relative error and coverage of one contender over a bank; what it declines is left out and counted."""
    ours, naive, held, steps, declined = [], [], np.zeros(2), 0, 0
    contender = document if isinstance(document, Contender) else Contender.parse({"forecaster": document})
    for name, step, values in bank:
        horizon = min(AHEAD[step], len(values) // 4)
        series = []
        for origin in range(max(len(values) // 2, len(values) - 6 * horizon), len(values) - horizon + 1, horizon):
            known, truth = values[:origin], values[origin : origin + horizon]
            panel = Panel.from_arrays({"a": known}, "2000-01-01", STEPS[step])
            period = panel.axis.step.season
            lag = period if origin > 2 * period else 1
            scale = float(np.abs(known[lag:] - known[:-lag]).mean()) or 1.0
            try:
                forecast = contender.fit(panel, horizon=horizon).forecast(horizon=horizon, levels=list(LEVELS))
                mean = forecast.mean[0]
            except ProteronError as error:
                tell(f"  {name}: {type(error).__name__}: {error}")
                declined += 1
                continue
            if not np.isfinite(mean).all():
                declined += 1
                continue
            naive_mean = adjusted_last(known, period, horizon)
            ours.append(loss(truth, mean, scale))
            naive.append(loss(truth, naive_mean, scale))
            series.append((ours[-1], naive[-1]))
            for place, level in enumerate(LEVELS):
                held[place] += ((truth >= forecast.lower[level][0]) & (truth <= forecast.upper[level][0])).sum()
            steps += horizon
        if series:
            apart = np.array(series).mean(axis=0)
            tell(f"  {name:14s} {np.mean(apart[0] / np.maximum(apart[1], 1e-12)):.3f}")
    ratio = np.array(ours).mean(axis=0) / np.array(naive).mean(axis=0)
    return {"error": float(ratio.mean()), "held": held / max(steps, 1), "declined": declined}
