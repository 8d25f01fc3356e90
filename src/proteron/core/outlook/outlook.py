"""The outlook: refitted on all that is known, with ranges from walk-forward errors."""

from collections.abc import Sequence

import numpy as np

from proteron.core.errors import SettingsError
from proteron.core.forecasters import Contender, FittedContender, Forecast
from proteron.core.forecasters.ahead import require_ahead
from proteron.core.judge import LEVELS, CellResult
from proteron.core.outlook.ahead import Ahead, continued
from proteron.core.panel import Floats, Panel, require_panel


def walk_forward_errors(panel: Panel, results: Sequence[CellResult]) -> Floats:
    """Flat out-of-sample errors (n_rows, n_series, horizon): one row per fold and origin, NaN where not scored."""
    rows: dict[int, Floats] = {}
    scored = np.isfinite(panel.scorable())
    for result in sorted(results, key=lambda each: (each.cell.fold, each.cell.series)):
        errors = result.flat_mean - result.flat_truth
        for row, index in enumerate(result.cell.series):
            local = (result.origins + result.cell.place.gap - panel.starts[index])[:, None] + np.arange(errors.shape[2])
            inside = (local >= 0) & (local < panel.lengths[index])
            known = np.zeros(local.shape, dtype=bool)
            known[inside] = scored[panel.offsets[index] + local[inside]]
            errors[row][~known] = np.nan
            for origin, row_errors in zip(result.origins.tolist(), errors[row], strict=True):
                if origin not in rows:
                    rows[origin] = np.full((len(panel), errors.shape[2]), np.nan)
                rows[origin][index] = row_errors
    return np.stack([rows[origin] for origin in sorted(rows)]) if rows else np.empty((0, len(panel), 0))


def outlook(
    panel: Panel,
    contender: Contender,
    results: Sequence[CellResult],
    horizon: int | None = None,
    levels: Sequence[float] = LEVELS,
    seed: int = 0,
    ahead: Ahead = "given",
) -> tuple[FittedContender, Forecast]:
    """Refit on everything known and forecast; `results` are the contender's walk-forward cells.

    `ahead` says how columns that are known ahead go on where they end too early. Raises `SettingsError` when the
    horizon lies beyond what walk-forward judged, `TooShortError` where such a column ends before it.
    """
    require_panel(panel)
    errors = walk_forward_errors(panel, results)
    judged = errors.shape[2]
    horizon = horizon or judged
    if horizon > judged:
        raise SettingsError(
            f"Ranges are known for {judged} steps ahead, the judged horizon; {horizon} were asked.", field="horizon"
        )
    panel = continued(panel, contender, horizon, ahead)
    require_ahead(panel, contender.forecaster, horizon)
    fitted = contender.fit(panel, horizon=horizon, seed=seed)
    return fitted, fitted.forecast(horizon, levels, flat_errors=errors[:, :, :horizon])
