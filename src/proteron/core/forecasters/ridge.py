"""Ridge regression on windows (Hoerl & Kennard 1970), one per series."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field
from scipy import linalg

from proteron.core.forecasters.forecaster import Equation, ForecasterState, Work
from proteron.core.forecasters.regression.solve import coordinate_path
from proteron.core.forecasters.window_forecaster import WindowForecaster, standardise, standardised
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints
from proteron.core.windows import Table, WindowPlan

_PATH = 25  # strengths that are tried


def ridge_weights(features: Floats, targets: Floats, strength: float, weights: Floats | None = None) -> Floats:
    """Minimise Σ v |targets - features w|² + strength |w|²; (n_rows, p), (n_rows, m), row weights v to (p, m)."""
    if weights is not None and (weights != weights[0]).any():
        root = np.sqrt(weights / weights.mean())[:, None]
        features, targets = features * root, targets * root
    gram = features.T @ features
    gram[np.diag_indices_from(gram)] += strength
    try:
        return linalg.cho_solve(linalg.cho_factor(gram), features.T @ targets)
    except linalg.LinAlgError:
        return linalg.lstsq(gram, features.T @ targets)[0]


class Ridge(WindowForecaster):
    """Linear regression on standardised features with a squared penalty, one model per series and step."""

    title: ClassVar[str] = "ridge on windows"
    cost: ClassVar[float] = 20.0
    prints_equation: ClassVar[bool] = True
    kind: Literal["ridge"] = "ridge"
    strength: float = Field(
        1.0, ge=0, title="Strength", description="Penalty on squared standardised coefficients.",
        json_schema_extra={"search": {"low": 0.01, "high": 100.0, "log": True}},
    )  # fmt: skip

    def learn_rows(self, table: Table, known: Panel, work: Work) -> ForecasterState:
        """Learn from rows of scaled values."""
        count, width, steps = len(known), len(table.names), len(table.target_names)
        weights = np.zeros((count, width, steps))
        centres, spreads = np.zeros((count, width)), np.ones((count, width))
        intercepts, rows = np.zeros((count, steps)), np.zeros(count)
        for index in range(count):
            mine = table.series == index
            rows[index] = mine.sum()
            if rows[index] < 2:
                continue
            weighs = table.weights[mine] if table.weights[mine].any() else np.ones(int(rows[index]))
            features, centres[index], spreads[index] = standardise(table.features[mine], weighs)
            targets = table.targets[mine]
            intercepts[index] = np.average(targets, axis=0, weights=weighs)
            work.go_on()
            weights[index] = self.coefficients(features, targets - intercepts[index], weighs, table.positions[mine])
        arrays = {"weights": weights, "intercepts": intercepts, "centres": centres, "spreads": spreads, "rows": rows}
        return ForecasterState(known.keys, arrays, {"names": list(table.names)})

    def coefficients(self, features: Floats, targets: Floats, weights: Floats, positions: Ints) -> Floats:
        """Coefficients (n_features, n_steps) of standardised rows of one series; `positions` (n_rows,) in time."""
        return ridge_weights(features, targets, self.strength, weights)

    def predict(self, state: ForecasterState, features: Floats, series: Ints) -> Floats:
        """Scaled forecasts (n_rows, n_steps) for scaled features."""
        out = np.empty((len(features), state.arrays["intercepts"].shape[1]))
        for row in np.unique(series):
            mine = series == row
            scaled = standardised(features[mine], state.arrays["centres"][row], state.arrays["spreads"][row])
            out[mine] = scaled @ state.arrays["weights"][row] + state.arrays["intercepts"][row]
        return out

    def shares_in(self, state: ForecasterState, row: int, features: Floats, step: int) -> tuple[Floats, float]:
        """Features apart from their mean, times their weights; and the intercept."""
        scaled = standardised(features[None], state.arrays["centres"][row], state.arrays["spreads"][row])[0]
        return scaled * state.arrays["weights"][row][:, step], float(state.arrays["intercepts"][row, step])

    def equation(self, state: ForecasterState, key: str) -> Equation:
        """The forecast as a sum of features, in flat units."""
        row, plan = state.row(key), WindowPlan.parse(state.facts["plan"])
        level, spread = state.arrays["level"][row], state.arrays["spread"][row]
        scales, moves, as_scaled = (
            np.array([getattr(unit, name) for unit in plan.units]) for name in ("scales", "moves", "as_scaled")
        )
        slopes = state.arrays["weights"][row] / state.arrays["spreads"][row][:, None]
        intercept = state.arrays["intercepts"][row] - state.arrays["centres"][row] @ slopes
        own = np.where((scales & ~as_scaled)[:, None], slopes, slopes * spread)
        return Equation(intercept * spread + level - level * (moves @ own), own, plan.names, as_scaled)

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Intercept and coefficients of the first step ahead, by feature name."""
        found = self.equation(state, key)
        return {"intercept": float(found.intercept[0])} | dict(
            zip(found.names, found.slopes[:, 0].tolist(), strict=True)
        )

    def summary(self, state: ForecasterState, key: str) -> str:
        """What was learned of one series, in one sentence."""
        if state.arrays["rows"][state.row(key)] < 2:
            return "Too few complete windows: the mean so far is used."
        slopes = self.equation(state, key).slopes[:, 0]
        strongest = np.argsort(-np.abs(state.arrays["weights"][state.row(key)][:, 0]))[:3]
        parts = ", ".join(f"{slopes[i]:+.3g} × {state.facts['names'][i]}" for i in strongest)
        steps = state.arrays["intercepts"].shape[1]
        way = f"direct for {steps} steps" if steps > 1 else "one step, fed back"
        return f"Linear in {len(slopes)} features, {way}; strongest for the first step: {parts}."


class ElasticNet(Ridge):
    """As ridge, with a penalty on absolute coefficients too, so that many features are left out (Zou & Hastie 2005).

    A strength that is not given is the one whose errors on the chronologically last rows are the least.
    """

    title: ClassVar[str] = "elastic net on windows"
    cost: ClassVar[float] = 150.0
    kind: Literal["elastic_net"] = "elastic_net"  # type: ignore[assignment]
    strength: float | None = Field(  # type: ignore[assignment]
        None,
        ge=0,
        title="Strength",
        description="Of the penalty; empty: by the errors on the last rows.",
    )
    share: float = Field(
        0.5, ge=0, le=1, title="Absolute share", description="1: the lasso; 0: ridge.",
        json_schema_extra={"search": {"low": 0.05, "high": 1.0}},
    )  # fmt: skip
    validation: float = Field(
        0.2, gt=0, lt=0.9, title="Validation share", description="The chronologically last part of what is known.",
        json_schema_extra={"advanced": True},
    )  # fmt: skip

    def coefficients(self, features: Floats, targets: Floats, weights: Floats, positions: Ints) -> Floats:
        """Coefficients (n_features, n_steps) of standardised rows of one series; `positions` (n_rows,) in time."""
        if self.strength is not None:
            return self._paths(features, targets, weights, np.array([self.strength]))[0]
        strengths = self._strongest(features, targets, weights) * np.logspace(0, -4, _PATH)
        border = np.quantile(positions, 1 - self.validation)
        early, late = positions + targets.shape[1] <= border, positions > border
        if early.sum() < 2 or not late.any():
            return self._paths(features, targets, weights, strengths)[_PATH // 2]
        paths = self._paths(features[early], targets[early], weights[early], strengths)
        errors = [((targets[late] - features[late] @ each) ** 2).mean(axis=1) @ weights[late] for each in paths]
        best = int(np.argmin(errors))
        return self._paths(features, targets, weights, strengths[: best + 1])[best]

    def _strongest(self, features: Floats, targets: Floats, weights: Floats) -> float:
        """The least strength with which nothing is left."""
        pull = np.abs(features.T @ (targets * weights[:, None])).max() / weights.sum()
        return float(max(pull, 1e-12) / max(self.share, 0.01))

    def _paths(self, features: Floats, targets: Floats, weights: Floats, strengths: Floats) -> Floats:
        """Coefficients (n_strengths, n_features, n_steps) along falling strengths."""
        shares = weights / weights.sum()
        weighed = features * shares[:, None]
        gram, right = weighed.T @ features, weighed.T @ targets
        return np.stack(
            [coordinate_path(gram, np.ascontiguousarray(each), strengths, self.share, 1e-6, 300) for each in right.T],
            axis=2,
        )
