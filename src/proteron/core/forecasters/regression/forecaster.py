"""Regression on covariates as a forecaster."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field, field_validator, model_validator
from scipy import special

from proteron.core.errors import SettingsError, TooShortError
from proteron.core.forecasters.criteria import information
from proteron.core.forecasters.forecaster import Coefficient, ForecasterState, Work
from proteron.core.forecasters.local import Learned, LocalForecaster
from proteron.core.forecasters.noise import Noise
from proteron.core.forecasters.regression.solve import (
    LeastSquares,
    coordinate_path,
    least_squares,
    quantile_fit,
    robust_fit,
)
from proteron.core.forecasters.regression.terms import Factor, Term, design, read_terms
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints

_PATH = 60


class Regression(LocalForecaster):
    """A linear equation of covariates, powers, products and categories at the time that is forecast.

    Sources: least squares by QR, refined where it is ill-conditioned (Björck 1967); Newey & West 1987; ridge: Hoerl &
    Kennard 1970; lasso and elastic net: Friedman, Hastie & Tibshirani 2010; Huber 1981; Koenker & Bassett 1978.
    """

    title: ClassVar[str] = "regression"
    family: ClassVar[str] = "regression"
    rehearsals: ClassVar[tuple[float, ...]] = ()
    can: ClassVar[tuple[str, ...]] = ("trend", "seasons", "covariates", "gaps", "ranges")
    cost: ClassVar[float] = 50.0
    kind: Literal["regression"] = "regression"
    formula: str | None = Field(
        None,
        title="Terms",
        description="Such as: rain + rain^2 + district against harbour + time. a * b is the product alone, a ** b is "
        "a + b + a * b.",
    )
    covariates: tuple[str, ...] = Field(
        (), title="Covariates", description="Instead of terms; empty: all that are known ahead."
    )
    loss: Literal["squared", "huber", "tukey", "quantile"] = Field("squared", title="Loss")
    level: float = Field(0.5, gt=0, lt=1, title="Level", description="Of a quantile.")
    penalty: Literal["none", "ridge", "lasso", "elastic_net"] = Field("none", title="Penalty")
    strength: float | None = Field(None, ge=0, title="Strength", description="Of the penalty; empty: by BIC.")
    share: float = Field(0.5, ge=0, le=1, title="Share", description="Of absolute values in an elastic net.")
    intercept: bool = Field(True, title="Intercept")
    robust_lags: int | None = Field(
        None, ge=0, title="Robust errors", description="Lags of autocorrelation that standard errors allow for."
    )

    @field_validator("formula")
    @classmethod
    def _can_be_read(cls, text: str | None) -> str | None:
        if text is not None:
            try:
                read_terms(text)
            except SettingsError as error:
                raise ValueError(error.message) from error
        return text

    @model_validator(mode="after")
    def _settings_go_together(self) -> "Regression":
        if self.penalty != "none" and self.loss != "squared":
            raise ValueError("a penalty goes with the squared loss only")
        if self.robust_lags is not None and (self.penalty != "none" or self.loss != "squared"):
            raise ValueError("robust errors belong to least squares without a penalty")
        if self.strength is not None and self.penalty == "none":
            raise ValueError("a strength belongs to a penalty")
        return self

    def _terms(self, panel: Panel) -> list[Term]:
        if self.formula is not None:
            return read_terms(self.formula)
        names = self.covariates or tuple(column.name for column in panel.covariates if column.role == "known_ahead")
        return [(Factor(name),) for name in names] or [(Factor("time"),)]

    def reads_ahead(self, panel: Panel, horizon: int) -> dict[str, int]:
        """Columns known ahead in any of its terms."""
        named = {factor.name for term in self._terms(panel) for factor in term}
        columns = (column for column in panel.covariates if column.role == "known_ahead")
        return {column.name: horizon for column in columns if column.name in named}

    def outside(self, panel: Panel, index: int, first: int) -> Floats | None:
        """What is known besides the series from grid position `first` on."""
        columns, _ = design(panel, index, self._terms(panel), first)
        return np.column_stack([np.ones(len(columns)), columns]) if self.intercept else columns

    def learn_series(self, known: Panel, index: int, work: Work) -> Learned:
        """What is learned of one series; raises `ProteronError` where it must decline."""
        values, first = known.series(index), int(known.starts[index])
        terms = self._terms(known)
        columns, names = design(known, index, terms, first)
        if self.intercept:
            columns, names = np.column_stack([np.ones(len(columns)), columns]), ("intercept", *names)
        columns = columns[: len(values)]
        rows = np.isfinite(values[: len(columns)]) & np.isfinite(columns).all(axis=1)
        if rows.sum() <= columns.shape[1]:
            raise TooShortError(
                f"{columns.shape[1]} coefficients need more than {int(rows.sum())} complete rows.", field="formula"
            )
        chosen, target = np.ascontiguousarray(columns[rows]), values[: len(columns)][rows]
        varying = np.ptp(chosen, axis=0) > 0
        varying |= np.array(names) == "intercept"
        fitted = self._solve(chosen[:, varying], target, np.array(names)[varying].tolist())
        full = np.zeros(len(names))
        errors, inflation = np.full(len(names), np.nan), np.full(len(names), np.nan)
        full[varying], errors[varying], inflation[varying] = fitted.coefficients, fitted.errors, fitted.inflation
        covariance = np.zeros((len(names), len(names)))
        covariance[np.ix_(varying, varying)] = fitted.covariance
        count = len(target)
        squares = float((fitted.residuals**2).sum())
        loglik = -0.5 * count * (np.log(2 * np.pi * max(squares / count, 1e-300)) + 1)
        total = float(((target - target.mean()) ** 2).sum())
        return Learned({
            "coefficients": full, "errors": errors, "inflation": inflation, "covariance": covariance,
            "variance": fitted.variance, "left": fitted.left, "count": count, "loglik": loglik,
            "r_squared": 1 - squares / total if total > 0 else np.nan,
        }, {"names": list(names), "afterwards": _known_afterwards(known, terms)})  # fmt: skip

    def _solve(self, columns: Floats, target: Floats, names: list[str]) -> LeastSquares:
        if self.loss == "quantile":
            coefficients = quantile_fit(columns, target, self.level)
            rest = target - columns @ coefficients
            return _bare(coefficients, rest, target, len(names))
        if self.loss != "squared":
            return robust_fit(columns, target, self.loss)
        if self.penalty == "none":
            return least_squares(columns, target, self.robust_lags)
        return self._penalised(columns, target, names)

    def _penalised(self, columns: Floats, target: Floats, names: list[str]) -> LeastSquares:
        """Penalties on standardised columns, none on the intercept; an empty strength is the one with the least BIC."""
        free = np.array([name != "intercept" for name in names])
        centre = columns[:, free].mean(axis=0) if self.intercept else np.zeros(int(free.sum()))
        spread = np.sqrt(((columns[:, free] - centre) ** 2).mean(axis=0))
        spread = np.where(spread > 0, spread, 1.0)
        unit = (columns[:, free] - centre) / spread
        middle = float(target.mean()) if self.intercept else 0.0
        size = float(np.std(target)) or 1.0
        aim = (target - middle) / size
        count = len(target)
        gram, right = unit.T @ unit / count, unit.T @ aim / count
        share = {"ridge": 0.0, "lasso": 1.0, "elastic_net": self.share}[self.penalty]
        largest = float(np.abs(right).max()) / max(share, 1e-3)
        strengths = largest * np.logspace(0, -4, _PATH) if self.strength is None else np.array([self.strength])
        path = coordinate_path(gram, right, strengths, share, 1e-10, 20_000)
        rest = aim[None] - path @ unit.T
        squares = np.maximum((rest**2).sum(axis=1), 1e-300)
        kept = (path != 0).sum(axis=1)
        if share == 0.0:
            values = np.linalg.eigvalsh(gram)
            kept = np.array([(values / (values + s)).sum() for s in strengths])
        best = int(np.argmin(count * np.log(squares / count) + kept * np.log(count)))
        slopes = path[best] * size / spread
        coefficients = np.zeros(len(names))
        coefficients[free] = slopes
        if self.intercept:
            coefficients[~free] = middle - centre @ slopes
        return _bare(coefficients, target - columns @ coefficients, target, int(kept[best]) + 1)

    def means_of(self, learned: Learned, values: Floats, at: Ints, horizon: int) -> Floats:
        """Means (n_origins, horizon) after `at` points of `values` (n_points,)."""
        columns = learned.outside
        coefficients = learned["coefficients"][: columns.shape[1]]
        places = at[:, None] + np.arange(horizon)
        inside = (places < len(columns)) & (not learned.facts["afterwards"])
        return np.where(inside, (columns @ coefficients)[np.where(inside, places, 0)], np.nan)

    def parts_of(self, learned: Learned, values: Floats, at: int, horizon: int) -> dict[str, Floats]:
        """Intercept and columns times their coefficients, those of one category together, (horizon,) each."""
        columns = learned.outside[at : at + horizon]
        if len(columns) < horizon or learned.facts["afterwards"]:
            return {}
        return {name: columns[:, mine] @ learned["coefficients"][mine] for name, mine in _wholes(learned, columns)}

    def part_errors(
        self, state: ForecasterState, panel: Panel, key: str, origin: int, horizon: int
    ) -> dict[str, Floats]:
        """By the covariance of the coefficients."""
        found = self._at(state, panel, panel.index(key))
        if found is None:
            return {}
        learned, _, first = found
        columns = learned.outside[origin - first : origin - first + horizon]
        if len(columns) < horizon:
            return {}
        out = dict[str, Floats]()
        for name, mine in _wholes(learned, columns):
            inner = learned["covariance"][np.ix_(mine, mine)]
            variance = np.einsum("hi,ij,hj->h", columns[:, mine], inner, columns[:, mine])
            out[name] = np.sqrt(np.maximum(variance, 0.0))
        return out

    def spreads_of(self, learned: Learned, values: Floats, at: int, horizon: int) -> Floats | None:
        """Standard deviations (horizon,) after `at` points, by theory."""
        columns = learned.outside
        width = columns.shape[1]
        shown = np.full((horizon, width), np.nan)
        there = columns[at : at + horizon]
        shown[: len(there)] = there
        doubt = np.einsum("hi,ij,hj->h", shown, learned["covariance"][:width, :width], shown)
        left = float(learned["left"])
        wider = special.stdtrit(left, 0.975) / special.ndtri(0.975) if left > 0 else 1.0
        return np.asarray(wider * np.sqrt(float(learned["variance"]) + np.maximum(doubt, 0.0)))

    def paths_of(self, learned: Learned, values: Floats, at: int, noise: Noise) -> Floats | None:
        """Paths (count, horizon) after `at` points, driven by the errors of `noise`."""
        count, horizon = noise.errors.shape
        mean = self.means_of(learned, values, np.array([at]), horizon)[0]
        spread = self.spreads_of(learned, values, at, horizon)
        own = np.sqrt(float(learned["variance"]))
        assert spread is not None
        doubt = np.sqrt(np.maximum(spread**2 - own**2, 0.0))
        return mean + own * noise.errors + noise.rng.normal(size=(count, 1)) * doubt

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Learned numbers of one series by name, in flat units."""
        return self._named(state, key, "coefficients")

    def standard_errors(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Standard errors by parameter, where theory gives them."""
        return self._named(state, key, "errors")

    def objection(self, known: Panel) -> str | None:
        """What speaks against a panel of one series that has points enough; None: nothing."""
        if self.formula is None and not any(column.role == "known_ahead" for column in known.covariates):
            return "No column is known ahead, so there is only time to regress on."
        return None

    def coefficient_table(self, state: ForecasterState, key: str) -> list[Coefficient]:
        """The coefficient table, p by the t distribution."""
        learned = self.learned(state, key)
        if learned is None:
            return []
        rows = []
        for place, name in enumerate(learned.facts["names"]):
            estimate, error = float(learned["coefficients"][place]), float(learned["errors"][place])
            t = estimate / error if error > 0 else np.nan
            p = float(2 * special.stdtr(max(float(learned["left"]), 1), -abs(t)))
            rows.append(Coefficient(name, estimate, error, t, p, float(learned["inflation"][place])))
        return rows

    def _named(self, state: ForecasterState, key: str, what: str) -> dict[str, float]:
        learned = self.learned(state, key)
        if learned is None:
            return {}
        return dict(zip(learned.facts["names"], learned[what].tolist(), strict=False))

    def criteria(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Log-likelihood and criteria of one series, where there is a likelihood."""
        learned = self.learned(state, key)
        if learned is None:
            return {}
        found = information(float(learned["loglik"]), len(learned.facts["names"]) + 1, int(learned["count"]))
        return found | {"r_squared": float(learned["r_squared"])}

    def summary_of(self, learned: Learned) -> str:
        """What was learned of one series, in one sentence."""
        if learned.facts["afterwards"]:
            names = ", ".join(f"“{name}”" for name in learned.facts["afterwards"])
            return f"No forecast: {names} is only known afterwards; the coefficients stand as an explanation."
        pairs = list(zip(learned.facts["names"], learned["coefficients"].tolist(), strict=False))
        parts = " ".join(f"{value:+.4g} × {name}" for name, value in pairs[:6] if name != "intercept")
        start = dict(pairs).get("intercept")
        more = " …" if len(pairs) > 6 else ""
        share = f"; in sample it explains {learned['r_squared']:.0%}, which is not forecast skill"
        return f"y = {'' if start is None else f'{start:.4g} '}{parts}{more}{share}."


def _wholes(learned: Learned, columns: Floats) -> list[tuple[str, list[int]]]:
    """Names of what columns (n, k) tell, with their places: those of one category together."""
    found: dict[str, list[int]] = {}
    for place, name in enumerate(learned.facts["names"][: columns.shape[1]]):
        found.setdefault(name.split("=")[0], []).append(place)
    return list(found.items())


def _known_afterwards(panel: Panel, terms: list[Term]) -> list[str]:
    """Columns of the terms that nobody knows at the time that is forecast."""
    names = {factor.name for term in terms for factor in term}
    return [column.name for column in panel.covariates if column.name in names and column.role == "observed"]


def _bare(coefficients: Floats, rest: Floats, target: Floats, spent: int) -> LeastSquares:
    """A fit whose coefficients have no standard errors in theory."""
    width, left = len(coefficients), max(len(target) - spent, 1)
    nothing = np.full(width, np.nan)
    variance = float((rest**2).sum() / left)
    return LeastSquares(coefficients, np.zeros((width, width)), nothing, rest, variance, left)
