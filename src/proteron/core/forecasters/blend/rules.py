"""By which rule members are blended, and the weights that a rule finds in what they forecast before."""

from typing import Any, Literal

import numpy as np
from pydantic import Field
from scipy import optimize

from proteron.core.documents import Settings
from proteron.core.forecasters.blend.weights import blended, inverse_weights, weighed_errors
from proteron.core.panel import Floats

RuleName = Literal["mean", "median", "trimmed", "inverse_error", "least_squares", "forward", "given"]
_ROUNDS = 50  # of forward selection
_INVERSE: dict[str, Any] = {"where": {"rule": ["inverse_error"]}}


class Rule(Settings):
    """How forecasts of members become one; weights come from folds that ended before, and are even without any."""

    rule: RuleName = Field(
        "inverse_error", title="Rule", description="Weights are learned from earlier folds, where the rule has any."
    )
    power: float = Field(
        3.0, ge=0, le=20, title="Power", description="Weights are errors to minus that.", json_schema_extra=_INVERSE
    )
    drop: float = Field(
        2.0, ge=1, title="Dropped from", description="Times the best error: what errs more has no weight.",
        json_schema_extra=_INVERSE,
    )  # fmt: skip
    trim: float = Field(
        0.2, ge=0, lt=0.5, title="Trimmed", description="Share of members left out at each end.",
        json_schema_extra={"where": {"rule": ["trimmed"]}},
    )  # fmt: skip
    weights: tuple[float, ...] = Field(
        (), title="Weights", description="Of the members in their order, where given.",
        json_schema_extra={"where": {"rule": ["given"]}},
    )  # fmt: skip

    @property
    def learns(self) -> bool:
        """Whether weights are found in earlier forecasts."""
        return self.rule in ("inverse_error", "least_squares", "forward")

    @property
    def weighs(self) -> bool:
        """Whether a member without weight is not read at all."""
        return self.rule not in ("median", "trimmed")

    def weights_of(self, truth: Floats, forecasts: Floats, scale: Floats | float) -> Floats:
        """Weights (n_members,) that add up to one, from what members forecast (n_members, n_rows, horizon) and what
        happened (n_rows, horizon); `scale`, one or (n_rows, 1), is what values move by."""
        count = len(forecasts)
        if self.rule == "given":
            given = np.array(self.weights, dtype=float)
            return given / given.sum()
        if not self.learns or not (np.isfinite(truth) & np.isfinite(forecasts)).any():
            return np.full(count, 1 / count)
        if self.rule == "inverse_error":
            return inverse_weights(weighed_errors(truth, forecasts, scale), self.power, self.drop)
        there = np.isfinite(truth) & np.isfinite(forecasts).all(axis=0)
        columns, wanted = (forecasts / scale)[:, there].T, (truth / scale)[there]
        if not len(wanted):
            return np.full(count, 1 / count)
        find = least_squares_weights if self.rule == "least_squares" else forward_weights
        return find(columns, wanted)

    def combine(self, parts: Floats, weights: Floats) -> Floats:
        """One forecast of parts (n_members, …); what a member does not forecast counts for nothing. Weights are
        (n_members,), or reach as far as the parts."""
        if self.rule == "median":
            return trimmed_mean(parts, 0.5)
        return trimmed_mean(parts, self.trim) if self.rule == "trimmed" else blended(parts, weights)


def least_squares_weights(columns: Floats, wanted: Floats) -> Floats:
    """Weights (n,), none negative and of sum one, by which columns (n_points, n) are nearest to what was wanted
    (Breiman 1996); even ones where all of them are zero."""
    found, _ = optimize.nnls(columns, wanted)
    total = found.sum()
    return found / total if total > 0 else np.full(columns.shape[1], 1 / columns.shape[1])


def forward_weights(columns: Floats, wanted: Floats) -> Floats:
    """Shares (n,) of picks, one after the other and again and again, each the one that brings the mean of all picks
    nearest to what was wanted in absolute error (Caruana et al. 2004); the best number of picks is kept."""
    total, picks = np.zeros(len(wanted)), np.zeros(columns.shape[1])
    best, kept = np.inf, picks
    for round_ in range(1, _ROUNDS + 1):
        errors = np.abs((total[:, None] + columns) / round_ - wanted[:, None]).mean(axis=0)
        pick = int(np.argmin(errors))
        total, picks = total + columns[:, pick], picks.copy()
        picks[pick] += 1
        if errors[pick] < best:
            best, kept = float(errors[pick]), picks
    return kept / kept.sum()


def trimmed_mean(parts: Floats, trim: float) -> Floats:
    """Means over the first axis without the share `trim` of what is there at each end, of a half the median; NaN where
    nothing is."""
    order = np.sort(parts, axis=0)  # NaN last
    count = np.isfinite(parts).sum(axis=0)
    left_out = np.minimum(np.floor(trim * count), (count - 1) // 2).astype(np.int64)  # one or two stay
    place = np.arange(len(parts)).reshape(-1, *[1] * (parts.ndim - 1))
    inside = (place >= left_out) & (place < count - left_out)
    total = np.where(inside, order, 0.0).sum(axis=0)
    return np.where(count > 0, total / np.maximum(inside.sum(axis=0), 1), np.nan)
