"""Information criteria side by side, where they are comparable, with the rank after the cutoff beside them."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

import numpy as np

from proteron.core.judge.cell import CellResult
from proteron.core.panel import Panel


@dataclass(frozen=True)
class Ranked:
    """An entrant's criteria of one series in one fold, and its error after the cutoff.

    Only criteria of one `group` compare: likelihoods of the same values, by one family. `rank` is by AICc (AIC where
    there is none) in the group, `rank_after` by the error after the cutoff in it, from 1; None where it is alone.
    """

    contender: str
    group: str
    criteria: Mapping[str, float]
    error: float
    rank: int | None
    rank_after: int | None


def rank_by_criteria(
    results: Iterable[CellResult], panel: Panel, series: int, after: Mapping[str, float]
) -> list[Ranked]:
    """Of results that come with what was learned; `after` are errors after the cutoff by entrant."""
    key = panel.keys[series]
    found: list[tuple[str, str, dict[str, float]]] = []
    for result in results:
        if result.fit is None or not result.fit.read_by(result.cell.contender):
            continue
        fitted = result.fitted(panel)
        told = fitted.contender.forecaster.criteria(fitted.state, key)
        criteria = {name: value for name, value in told.items() if np.isfinite(value)}
        if criteria:
            group, chain = fitted.contender.forecaster.likelihood_of(fitted.state, key), fitted.contender.chain
            found.append((result.cell.name, f"{group}, behind {chain.text}" if chain.active else group, criteria))
    groups = {group: [name for name, each, _ in found if each == group] for _, group, _ in found}
    inside = {name: criteria.get("aicc", criteria.get("aic", np.nan)) for name, _, criteria in found}
    errors = {name: after.get(name, np.nan) for name, _, _ in found}
    return [
        Ranked(name, group, criteria, errors[name], _rank(inside, name, groups[group]),
               _rank(errors, name, groups[group]))
        for name, group, criteria in found
    ]  # fmt: skip


def _rank(values: Mapping[str, float], name: str, among: list[str]) -> int | None:
    if len(among) < 2 or not np.isfinite(values[name]):
        return None
    return 1 + sum(values[other] < values[name] for other in among)
