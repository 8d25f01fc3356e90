"""A contender: a forecaster with its settings and its chain, and what it learned as of a cutoff."""

import warnings
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Annotated, Any, Literal, Self

import numpy as np
from numpy.typing import NDArray
from pydantic import BeforeValidator, model_validator

from proteron.core.compiled import single_blas_thread
from proteron.core.documents import Settings, content_hash
from proteron.core.errors import DeclinedWarning, SettingsError, TooShortError
from proteron.core.flatten import Chain, FittedChain
from proteron.core.forecasters.ahead import require_ahead
from proteron.core.forecasters.forecast import Forecast
from proteron.core.forecasters.forecaster import Forecaster, ForecasterState, Work
from proteron.core.forecasters.ranges import ends_from_errors
from proteron.core.forecasters.registry import FORECASTERS, AnyForecaster
from proteron.core.forecasters.window_forecaster import WindowForecaster, with_plan
from proteron.core.panel import FROM_BOTH_SIDES, Floats, Panel, require_panel
from proteron.core.timeline import Ints, Moment

_RESIDUAL_ORIGINS = 300
_DECLINED_SAID = 5
_SMEARED = 60
_PATHS = 400
_POSSIBLE_AT_ONCE = 4_000_000


def _chain(given: Any) -> Any:
    return Chain.from_document(given) if isinstance(given, dict) else given


Ranges = Literal["own", "split", "adaptive"]


class Contender(Settings):
    """Forecaster and chain; its document and hash identify it everywhere."""

    schema_version: Literal[1] = 1
    forecaster: AnyForecaster
    chain: Annotated[Chain, BeforeValidator(_chain)] = Chain()
    ranges: Ranges = "own"

    def document(self) -> dict[str, Any]:
        """As plain data; ranges are named only where they are corrected, so that others keep their hash."""
        forecaster = {**self.forecaster.document(), "version": self.forecaster.version}
        document = {"schema_version": 1, "forecaster": forecaster, "chain": self.chain.document()}
        return document if self.ranges == "own" else {**document, "ranges": self.ranges}

    @classmethod
    def from_document(cls, document: dict[str, Any]) -> "Contender":
        """Read what `document` wrote."""
        forecaster = {name: value for name, value in document["forecaster"].items() if name != "version"}
        ranges = document.get("ranges", "own")
        return cls.parse({"forecaster": forecaster, "chain": document.get("chain", {}), "ranges": ranges})

    @property
    def hash(self) -> str:
        """SHA-256 over the canonical document."""
        return content_hash(self.document())

    @model_validator(mode="after")
    def _in_original_units(self) -> Self:
        if self.forecaster.family == "elsewhere" and self.chain.stages:
            raise ValueError("forecasts that were made elsewhere are in original units: they take no chain")
        return self

    @property
    def learns_as(self) -> "Contender":
        """The contender that learns the very same: correcting ranges changes nothing of it."""
        return self if self.ranges == "own" else self.model_copy(update={"ranges": "own"})

    @property
    def is_baseline(self) -> bool:
        """Whether it is one of the naive ones."""
        return self.forecaster.family == "baseline"

    def fit(
        self, panel: Panel, until: Moment | None = None, *, horizon: int | None = None, seed: int = 0,
        levels: Sequence[float] = (0.5, 0.8, 0.95), work: Work | None = None,
    ) -> "FittedContender":  # fmt: skip
        """Learn chain and forecaster from what is known at `until`; `horizon` is how far it will be asked, `levels` the
        ranges that are learned where a forecaster does.

        Raises `TooShortError` when nothing is known, and whatever stage or forecaster finds wrong. Warns
        (`DeclinedWarning`) of series that the forecaster declines.
        """
        require_panel(panel)
        (fitted,) = self.fit_many([(panel, until, work or Work(horizon=horizon, seed=seed, levels=tuple(levels)))])
        for key, reason in list(self.forecaster.declined(fitted.state).items())[:_DECLINED_SAID]:
            warnings.warn(
                f"“{key}” has no forecast by {self.forecaster.title}: {reason}", DeclinedWarning, stacklevel=2
            )
        return fitted

    def fit_many(self, fits: Sequence[tuple[Panel, Moment | None, Work]]) -> list["FittedContender"]:
        """As `fit` for each panel with its cutoff and work, to the bit; learned together where the family gains."""
        learned = []
        for panel, until, work in fits:
            known = panel.cut_at(until)
            if not np.isfinite(known.values).any():
                raise TooShortError("Nothing is known as of this cutoff.", field="until")
            chain = self.chain.fit(known)
            with single_blas_thread():
                flat = chain.apply(known.learnable())
            self.forecaster.guard(flat)
            learned.append((known, panel.known(until), chain, flat, work))
        with single_blas_thread():
            states = self.forecaster.learn_many([(flat, work) for _, _, _, flat, work in learned])
        return [
            FittedContender(self, known, until, chain, state)
            for (known, until, chain, _, _), state in zip(learned, states, strict=True)
        ]


@dataclass(frozen=True, repr=False)
class FittedContender:
    """A contender with what it learned as of `until`; forecasts from there or, unchanged, from later origins."""

    contender: Contender
    known: Panel
    until: int
    chain: FittedChain
    state: ForecasterState

    def __repr__(self) -> str:
        moment = str(self.known.axis.local(np.array([self.until - 1]))[0]).replace("T", " ")
        chain = f" behind {self.contender.chain.text}" if self.chain.stages else ""
        return f"{self.contender.forecaster.title}{chain}, learned from {len(self.known)} series up to {moment}"

    def means(self, panel: Panel, origins: Ints, horizon: int) -> tuple[Floats, Floats]:
        """Forecasts in original and in flat units, (n_series, n_origins, horizon) each.

        `panel` may reach beyond the cutoff; a row reads only points before its own origin. A panel that begins
        elsewhere is placed on the axis that was learned on, `origins` count its own grid positions; raises
        `InputError` where its grid is another one.
        """
        origins = np.asarray(origins, dtype=np.int64) + self.known.axis.shift_of(panel.axis)
        panel = panel.on_axis(self.known.axis)
        with single_blas_thread():
            flat_panel = self.chain.apply(panel)
            flat = self.contender.forecaster.means(self.state, flat_panel, origins, horizon)
            flat[_in_open_gap(panel, origins)] = np.nan
            if self.contender.chain.bias_adjust and self.chain.stages:
                return self._smeared(panel, flat, origins), flat
            return self._undo(panel, flat, origins), flat

    def _smeared(self, panel: Panel, flat: Floats, origins: Ints) -> Floats:
        """Mean over past flat errors of the restored forecast with each of them (smearing, Duan 1983)."""
        errors = self.flat_errors(flat.shape[-1])
        if not len(errors):
            return self._undo(panel, flat, origins)
        chosen = errors[np.unique(np.linspace(0, len(errors) - 1, _SMEARED).round().astype(int))]
        possible = [self._undo(panel, flat - each[:, None], origins) for each in chosen]
        present = np.isfinite(possible)
        total = np.where(present, possible, 0.0).sum(axis=0)
        return np.where(present.any(axis=0), total / np.maximum(present.sum(axis=0), 1), np.nan)

    def _undo(self, panel: Panel, flat: Floats, origins: Ints) -> Floats:
        """Back to original units: `flat` (n_series, …, n_origins, horizon)."""
        if not self.chain.stages:
            return flat
        out = np.empty_like(flat)
        for index, key in enumerate(panel.keys):
            first = int(panel.starts[index])
            inside = np.clip(origins, first, first + int(panel.lengths[index]))
            lanes = self.chain.lanes(panel, index)
            out[index] = self.chain.undo_ahead(key, flat[index], inside, first, lanes)
        return out

    def flat_errors(self, horizon: int) -> Floats:
        """In-sample flat errors, forecast minus truth, (n_origins, n_series, horizon), evenly spaced origins."""
        end = self.known.end
        look_back = self.contender.forecaster.look_back(self.state, self.known)
        first = int(self.known.starts.min()) + look_back
        stop = end - horizon
        if stop < first:
            return np.empty((0, len(self.known), horizon))
        origins = np.unique(np.linspace(first, stop, _RESIDUAL_ORIGINS).round().astype(np.int64))
        with single_blas_thread():
            flat_panel = self.chain.apply(self.known)
            flat = self.contender.forecaster.means(self.state, flat_panel, origins, horizon)
        errors = (flat - truths(flat_panel, origins, horizon)).transpose(1, 0, 2)
        return errors[np.isfinite(errors).any(axis=(1, 2))]

    def forecast(
        self, horizon: int, levels: Sequence[float] = (0.5, 0.8, 0.95), flat_errors: Floats | None = None
    ) -> Forecast:
        """Forecast from the cutoff; ranges carry over `flat_errors` (n_rows, n_series, horizon).

        Without them, ranges come from the forecaster's theory, or else from errors inside the learned span.
        Raises `TooShortError` where a column that is known ahead ends before the steps that are read.
        """
        if horizon < 1:
            raise SettingsError("The horizon is at least one step.", field="horizon")
        without = require_ahead(self.known, self.contender.forecaster, horizon)
        origins = np.array([self.until], dtype=np.int64)
        mean, flat = self.means(self.known, origins, horizon)
        mean[without] = flat[without] = np.nan
        possible, bounds = None, None
        if flat_errors is None:
            bounds = self._by_theory(self.known, origins, flat, levels)
            if bounds is not None:
                bounds[:, :, without] = np.nan
            possible = self._simulated(horizon) if bounds is not None or self._simulates else None
            if bounds is None and possible is not None:
                bounds = self._by_errors(self.known, origins, flat, possible[:, :, None], levels)
        if possible is None:
            errors = self.flat_errors(horizon) if flat_errors is None else flat_errors
            carried = self._carried(self.known, origins, flat, errors)
            possible = carried[:, :, 0]
            bounds = self._by_errors(self.known, origins, flat, carried, levels) if bounds is None else bounds
        return Forecast(
            self.known.axis, self.known.keys, self.until, mean[:, 0], flat[:, 0], possible, tuple(levels),
            None if bounds is None else bounds[:, :, :, 0],
        )  # fmt: skip

    def ranges(self, panel: Panel, origins: Ints, flat: Floats, levels: Sequence[float], errors: Floats) -> Floats:
        """Ends of ranges in original units around `flat` forecasts (n_series, n_origins, horizon) from each origin.

        (n_levels, 2, n_series, n_origins, horizon). By the forecaster's theory where it has one; else `errors` (n_rows,
        n_series, horizon) are carried over to every origin, widened where they are few.
        """
        found = self._by_theory(panel, origins, flat, levels)
        if found is not None:
            return found
        out = np.empty((len(levels), 2, *flat.shape))
        at_once = max(1, _POSSIBLE_AT_ONCE // max(len(errors) * flat.shape[0] * flat.shape[2], 1))
        for first in range(0, len(origins), at_once):
            some = slice(first, first + at_once)
            possible = self._carried(panel, origins[some], flat[:, some], errors)
            out[:, :, :, some] = self._by_errors(panel, origins[some], flat[:, some], possible, levels)
        return out

    def _by_errors(
        self, panel: Panel, origins: Ints, flat: Floats, possible: Floats, levels: Sequence[float]
    ) -> Floats:
        """Ranges (n_levels, 2, n_series, n_origins, horizon) of what might have been (n_rows, …), original units.

        They are told in the units behind the transforms that the chain begins with, where errors are alike.
        """
        centre = self._undo(panel, flat, origins)
        out = np.empty((len(levels), 2, *centre.shape))
        for index, key in enumerate(panel.keys):
            rows, middle = self.chain.transformed(key, possible[:, index]), self.chain.transformed(key, centre[index])
            ends = ends_from_errors(rows, middle, levels)
            out[:, :, index] = self.chain.untransformed(key, ends)
        return out

    def _carried(self, panel: Panel, origins: Ints, flat: Floats, errors: Floats) -> Floats:
        """What would have been with each of the past errors: (n_rows, n_series, n_origins, horizon), original units."""
        possible = flat[:, None] - errors.transpose(1, 0, 2)[:, :, None]
        return self._undo(panel, possible, origins).transpose(1, 0, 2, 3)

    @property
    def has_theory(self) -> bool:
        """Whether ranges come from theory where no out-of-sample errors are given."""
        return self.contender.forecaster.tells_ranges

    @property
    def _simulates(self) -> bool:
        learner = self.contender.forecaster
        return isinstance(learner, WindowForecaster) and learner.simulates

    def _by_theory(self, panel: Panel, origins: Ints, flat: Floats, levels: Sequence[float]) -> Floats | None:
        """Ranges by the forecaster's theory, behind the chain; None where it has none.

        (n_levels, 2, n_series, n_origins, horizon), the lower end first.
        """
        if not self.has_theory or not levels:
            return None
        with single_blas_thread():
            flat_panel = self.chain.apply(panel)
            bounds = self.contender.forecaster.ranges(self.state, flat_panel, origins, flat.shape[-1], levels)
        if bounds is None:
            return None
        ends = bounds.reshape(-1, *flat.shape).transpose(1, 0, 2, 3)
        restored = self._undo(panel, np.ascontiguousarray(ends), origins).transpose(1, 0, 2, 3)
        return np.sort(restored.reshape(bounds.shape), axis=1)

    def _simulated(self, horizon: int) -> Floats | None:
        """Joint paths by theory from the cutoff, in original units (n_paths, n_series, horizon); None without any."""
        learner, origins = self.contender.forecaster, np.array([self.until], dtype=np.int64)
        with single_blas_thread():
            paths = learner.simulate(self.state, self.chain.apply(self.known), self.until, horizon, _PATHS, 0)
        if paths is None:
            return None
        restored = self._undo(self.known, np.ascontiguousarray(paths.transpose(1, 0, 2)[:, :, None]), origins)
        return restored[:, :, 0].transpose(1, 0, 2)

    @cached_property
    def fitted_values(self) -> Any:
        """One-step-ahead forecasts inside the learned span, per key (a plain array for one series)."""
        origins = np.arange(self.known.end)
        mean = self.means(self.known, origins, 1)[0][:, :, 0]
        starts, lengths = self.known.starts, self.known.lengths
        return self._per_key(
            [mean[i, starts[i] : starts[i] + lengths[i]] for i in range(len(self.known))]
        )  # fmt: skip

    @property
    def residuals(self) -> Any:
        """Observed minus fitted values."""
        if len(self.known) == 1:
            return self.known.series(0) - self.fitted_values
        return {key: self.known[key] - fitted for key, fitted in self.fitted_values.items()}

    @property
    def parameters(self) -> Any:
        """Learned numbers by name, in flat units; per key for a panel of several series."""
        forecaster = self.contender.forecaster
        return self._per_key([forecaster.parameters(self.state, key) for key in self.known.keys])

    @property
    def standard_errors(self) -> Any:
        """Standard errors by parameter, where theory gives them."""
        forecaster = self.contender.forecaster
        return self._per_key([forecaster.standard_errors(self.state, key) for key in self.known.keys])

    @property
    def criteria(self) -> Any:
        """Number of residuals and their root mean square in original units, one step ahead, inside the learned span.

        With `loglik`, `aic`, `aicc` and `bic`, in flat units, where the forecaster has a likelihood.
        """
        residuals = [self.residuals] if len(self.known) == 1 else list(self.residuals.values())
        present = [each[np.isfinite(each)] for each in residuals]
        return self._per_key(
            [
                {"n": float(len(e)), "rmse": float(np.sqrt((e**2).mean())) if len(e) else float("nan")}
                | self.contender.forecaster.criteria(self.state, key)
                for e, key in zip(present, self.known.keys, strict=True)
            ]
        )

    @property
    def summary(self) -> Any:
        """What was learned of one series, in one sentence."""
        forecaster = self.contender.forecaster
        return self._per_key([forecaster.summary(self.state, key) for key in self.known.keys])

    def _per_key(self, each: list[Any]) -> Any:
        return each[0] if len(each) == 1 else dict(zip(self.known.keys, each, strict=True))


def _in_open_gap(panel: Panel, origins: Ints) -> NDArray[np.bool_]:
    """(n_series, n_origins): the last point was filled with one that was not known yet, so there is no forecast."""
    local = origins[None] - panel.starts[:, None] - 1
    inside = (local >= 0) & (local < panel.lengths[:, None])
    marks = (
        panel.marks[np.where(inside, panel.offsets[:-1, None] + local, 0)] if len(panel.marks) else np.zeros_like(local)
    )
    return inside & ((marks & FROM_BOTH_SIDES) > 0)


def truths(panel: Panel, origins: Ints, horizon: int, values: Floats | None = None) -> Floats:
    """What happened after each origin, (n_series, n_origins, horizon), NaN beyond the data."""
    flat = panel.values if values is None else values
    out = np.full((len(panel), len(origins), horizon), np.nan)
    for index in range(len(panel)):
        local = (origins - panel.starts[index])[:, None] + np.arange(horizon)
        inside = (local >= 0) & (local < panel.lengths[index])
        out[index][inside] = flat[panel.offsets[index] + local[inside]]
    return out


def forecaster(
    name: str | Forecaster, *, chain: Chain | None = None, ranges: Ranges = "own", **settings: Any
) -> Contender:
    """A contender by its forecaster's name; window forecasters also take a plan's settings directly.

    In walk-forward experiments, `ranges` are corrected by how those of earlier folds held: “split” or “adaptive”.

    Instead of a name it takes settings from `proteron.models`, which an editor completes and checks:
    `forecaster(models.Ridge(strength=2), chain=…)`. Raises `SettingsError` for an unknown name or setting.
    """
    if isinstance(name, Forecaster):
        if settings:
            raise SettingsError("Settings stand in the model already; give only a chain beside it.", field="forecaster")
        return Contender.parse(
            {"forecaster": name.document(), "chain": (chain or Chain()).document(), "ranges": ranges}
        )
    for each in FORECASTERS:
        if each.model_fields["kind"].default == name:
            given = with_plan(settings) if issubclass(each, WindowForecaster) else settings
            return Contender.parse({"forecaster": each.parse(given), "chain": chain or Chain(), "ranges": ranges})
    known = ", ".join(forecasters())
    raise SettingsError(f"There is no forecaster “{name}”; there are: {known}.", field="forecaster")


def forecasters() -> dict[str, dict[str, Any]]:
    """Names of all forecasters with the JSON schema of their settings."""
    return {each.model_fields["kind"].default: each.model_json_schema() for each in FORECASTERS}
