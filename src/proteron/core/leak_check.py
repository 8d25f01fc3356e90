"""The leak check: replace everything right of an origin, recompute, and compare bit for bit."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from proteron.core.flatten import Chain
from proteron.core.forecasters import Contender
from proteron.core.panel import Panel, require_panel
from proteron.core.profile.covariates import correlation
from proteron.core.windows.plan import WindowPlan

CORRUPTIONS = ("noise", "missing", "cut off")
_ALMOST = 0.999


@dataclass(frozen=True)
class LeakCheck:
    """Outcome of a leak check: what was compared, and every value that changed."""

    passed: bool
    evidence: dict[str, Any]


def corrupt_future(panel: Panel, origin: int, kind: str, seed: int = 0) -> Panel:
    """`panel` with everything not known at grid position `origin` replaced by noise, by NaN, or cut off.

    Known-ahead columns stay: the role says they are known.
    """
    if kind == "cut off":
        return panel.cut_at(origin)
    rng = np.random.default_rng([seed, origin])
    known = panel.known_lengths(origin)
    future = np.concatenate([np.arange(n) >= k for n, k in zip(panel.lengths, known, strict=True)])

    def spoil(values: NDArray[np.float64]) -> NDArray[np.float64]:
        size = np.nanmax(np.abs(values), initial=1.0)
        noise = rng.normal(scale=10 * size, size=len(values)) if kind == "noise" else np.nan
        return np.where(future, noise, values)

    columns = tuple(
        replace(column, values=spoil(column.values)) if column.role == "observed" else column
        for column in panel.covariates
    )
    return replace(panel, values=spoil(panel.values), covariates=columns)


def same_bits(left: NDArray[Any], right: NDArray[Any]) -> NDArray[np.bool_]:
    """Where two arrays agree to the last bit; any NaN equals any NaN."""
    if left.dtype.kind != "f":
        return np.asarray(left == right)
    bits = np.dtype(f"u{left.dtype.itemsize}")
    return (np.ascontiguousarray(left).view(bits) == np.ascontiguousarray(right).view(bits)) | (
        np.isnan(left) & np.isnan(right)
    )


def leak_check(
    panel: Panel,
    plan: WindowPlan | None = None,
    chain: Chain | None = None,
    contender: Contender | None = None,
    origins: int | Sequence[int] = 20,
    seed: int = 0,
    horizon: int = 4,
) -> LeakCheck:
    """Corrupt the future of sampled origins and compare chain state, window rows and forecasts.

    `origins` is how many to sample (seeded), or the grid positions themselves. Each origin is tried
    with the future replaced by noise; every fourth one also with it missing and cut off.
    """
    require_panel(panel)
    chain = chain or Chain()
    chosen = _sample(panel, plan, origins, seed) if isinstance(origins, int) else sorted(origins)
    cells, leaks, steps = 0, [], 0
    for number, origin in enumerate(chosen):
        clean = _look(panel, plan, chain, contender, origin, horizon)
        for kind in CORRUPTIONS if number % 4 == 0 else CORRUPTIONS[:1]:
            spoiled = _look(corrupt_future(panel, origin, kind, seed), plan, chain, contender, origin, horizon)
            steps += 1
            for name, before in clean.items():
                after = spoiled[name]
                agree = same_bits(before, after) if before.shape == after.shape else np.zeros(before.shape, bool)
                cells += agree.size
                if not agree.all():
                    leaks.append({"what": name, "origin": origin, "future": kind, "changed": int((~agree).sum())})
    times = panel.axis.times(np.array(chosen, dtype=np.int64) - 1)
    evidence = {
        "origins": len(chosen),
        "recomputations": steps,
        "cells": cells,
        "leaks": leaks,
        "first": str(times[0]) if len(times) else None,
        "last": str(times[-1]) if len(times) else None,
        "warnings": known_too_well(panel, max(plan.horizon) if plan else horizon),
    }
    return LeakCheck(not leaks and cells > 0, evidence)


def known_too_well(panel: Panel, reach: int) -> list[str]:
    """Columns said to be known ahead that are almost the target or its future; no check can prove when they were.

    Sentences, one per column: correlation above .999 with the target up to `reach` steps later, over all series.
    """
    warnings = []
    for column in panel.covariates:
        if column.role != "known_ahead":
            continue
        for lead in range(reach + 1):
            pairs = [
                (column.series(i)[: max(length - lead, 0)], panel.series(i)[lead:])
                for i, length in enumerate(panel.lengths.tolist())
            ]
            together = correlation(*(np.concatenate(side) for side in zip(*pairs, strict=True)))
            if abs(together) > _ALMOST:
                later = f"the target {lead} steps later" if lead else "the target itself"
                warnings.append(
                    f"“{column.name}” is said to be known ahead but is almost {later} (correlation {together:.4f}): "
                    "if it is only known afterwards, every result built on it is worthless."
                )
                break
    return warnings


def _sample(panel: Panel, plan: WindowPlan | None, count: int, seed: int) -> list[int]:
    first = int(panel.starts.min()) + max(plan.look_back if plan else 1, (panel.end - int(panel.starts.min())) // 4)
    possible = np.arange(min(first, panel.end - 1), panel.end)
    rng = np.random.default_rng(seed)
    picked = rng.choice(possible, size=min(count, len(possible)), replace=False)
    return sorted(int(position) for position in picked)


def _look(
    panel: Panel, plan: WindowPlan | None, chain: Chain, contender: Contender | None, origin: int, horizon: int
) -> dict[str, NDArray[Any]]:
    """Everything that may only depend on what is known at `origin`, by name."""
    seen: dict[str, NDArray[Any]] = {}
    fitted = chain.fit(panel, until=origin)
    for key, states in zip(fitted.keys, fitted.states, strict=True):
        for stage, state in zip(fitted.stages, states, strict=True):
            seen |= {f"{stage.title}: {name} of {key}": np.asarray(array) for name, array in state.arrays.items()}
    if plan is not None:
        table = plan.cut(fitted.apply(panel), targets=False)
        rows = table.positions < origin
        seen |= {name: table.features[rows, column] for column, name in enumerate(table.names)}
    if contender is not None:
        entered = contender.fit(panel, until=origin, horizon=horizon)
        forecast = entered.forecast(horizon)
        seen |= {f"learned {name}": np.asarray(array) for name, array in entered.state.arrays.items()}
        seen["forecast"] = forecast.mean
        seen["forecast of the same origin, later"] = entered.means(panel, np.array([origin]), horizon)[0]
        seen |= {f"range {level}": bound for level, bound in forecast.upper.items()}
    return seen
