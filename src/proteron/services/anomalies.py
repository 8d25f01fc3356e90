"""Scans: every step scored once, one step ahead and out of sample, and flags above a threshold of that moment."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from proteron.core.anomalies import Scores, flags_above, residual_scores, scan_folds, threshold_as_of
from proteron.core.errors import SettingsError
from proteron.core.experiment import Judging
from proteron.records import experiments as records
from proteron.records.flags import replace_flags
from proteron.records.models import AnomalyFlag
from proteron.records.results import load_results
from proteron.services.experiments import create_and_start, judging_of
from proteron.services.resources import Resources


def scan_of(judging: Judging, contender: str, panel: Any) -> Judging:
    """The judging that scores a panel with one contender; raises `SettingsError` where it is not entered."""
    return Judging(
        seed=judging.seed, folds=scan_folds(panel), metrics=("mae",), baseline=contender, levels=(),
        contenders=(judging.entry(contender),),
    )  # fmt: skip


def start_scan(reach: Resources, project_id: int, experiment_id: int, contender: str) -> int:
    """Score every step with a contender of an experiment; returns the scan's number."""
    with reach.database.session() as session:
        source = records.get_experiment(session, experiment_id)
    scan = scan_of(judging_of(source), contender, reach.panel(source.dataset_id))
    return create_and_start(reach, project_id, source.dataset_id, "scan", f"scan by {contender}", scan)


def scores_of(reach: Resources, experiment_id: int) -> Scores:
    """The scores of a scan's finished cells."""
    with reach.database.session() as session:
        experiment = records.get_experiment(session, experiment_id)
        return residual_scores(reach.panel(experiment.dataset_id), load_results(session, experiment_id))


@dataclass(frozen=True)
class Flagged:
    """Flags of one series as stored, the threshold that raised them, and how many a week that is."""

    threshold: float
    per_week: float | None
    flags: list[AnomalyFlag]


def flag_series(
    reach: Resources, experiment_id: int, series: int, threshold: float | None, budget_per_week: float | None,
    until: int | None,
) -> Flagged:  # fmt: skip
    """Flag one series above a threshold, or within a budget of flags per week as learned by `until`.

    The threshold of a budget is what was known at the cutoff; flags right of it are those it would raise later. Raises
    `SettingsError` unless exactly one of both is given.
    """
    if (threshold is None) == (budget_per_week is None):
        raise SettingsError("Give either a threshold or a budget per week.", field="threshold")
    found = scores_of(reach, experiment_id)
    if budget_per_week is not None:
        threshold = threshold_as_of(found, series, until, budget_per_week)
    assert threshold is not None
    flags = flags_above(found, series, threshold) if np.isfinite(threshold) else []
    scored = int(np.isfinite(found.series(series)[1]).sum())
    weeks = scored * found.panel.axis.step.nominal_seconds / 604800
    with reach.database.session() as session:
        stored = replace_flags(session, experiment_id, series, flags)
    return Flagged(threshold, len(flags) / weeks if weeks else None, stored)
