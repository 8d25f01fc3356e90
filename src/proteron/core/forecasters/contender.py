"""A contender: a forecaster with its settings and its chain, and what it learned as of a cutoff."""

import warnings
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Annotated, Any, Literal, Self

import numpy as np
from numpy.typing import NDArray
from pydantic import BeforeValidator, Field, model_validator

from proteron.core.compiled import single_blas_thread
from proteron.core.documents import Settings, content_hash
from proteron.core.errors import DeclinedWarning, InputError, SettingsError, TooShortError
from proteron.core.flatten import Chain, FittedChain
from proteron.core.forecasters.ahead import require_ahead
from proteron.core.forecasters.blend.members import Part, Readers
from proteron.core.forecasters.blend.rules import RuleName
from proteron.core.forecasters.forecast import Forecast
from proteron.core.forecasters.forecaster import Forecaster, ForecasterState, Work
from proteron.core.forecasters.guards import Guards
from proteron.core.forecasters.ranges import ends_from_errors
from proteron.core.forecasters.registry import FORECASTERS, AnyForecaster
from proteron.core.forecasters.window_forecaster import WindowForecaster, with_plan
from proteron.core.panel import FROM_BOTH_SIDES, Floats, Panel, require_panel
from proteron.core.phases import truths
from proteron.core.timeline import Ints, Moment
from proteron.core.words import listed

_RESIDUAL_ORIGINS = 300
_DECLINED_SAID = 5
_SMEARED = 60
_PATHS = 400
_POSSIBLE_AT_ONCE = 4_000_000


def _chain(given: Any) -> Any:
    return Chain.from_document(given) if isinstance(given, dict) else given


Ranges = Literal["own", "split", "adaptive"]
_USUAL: dict[str, Any] = {"ranges": "own", "safeguards": True, "floor": None}


class Contender(Settings):
    """Forecaster and chain; its document and hash identify it everywhere."""

    schema_version: Literal[1] = 1
    forecaster: AnyForecaster
    chain: Annotated[Chain, BeforeValidator(_chain)] = Chain()
    ranges: Ranges = "own"
    safeguards: bool = True
    floor: float | None = Field(None, allow_inf_nan=False)

    def document(self) -> dict[str, Any]:
        """As plain data; what is beside forecaster and chain is named only where it is not as usual, so that others
        keep their hash."""
        forecaster = {**self.forecaster.document(), "version": self.forecaster.version}
        document = {"schema_version": 1, "forecaster": forecaster, "chain": self.chain.document()}
        return document | self.unusual

    @classmethod
    def from_document(cls, document: dict[str, Any]) -> "Contender":
        """Read what `document` wrote; raises `SettingsError` where there is no forecaster in it."""
        told = document.get("forecaster")
        if not isinstance(told, dict):
            raise SettingsError("A contender is described by its forecaster and its chain.", field="forecaster")
        forecaster = {name: value for name, value in told.items() if name != "version"}
        beside = {name: document[name] for name in _USUAL if name in document}
        return cls.parse({"forecaster": forecaster, "chain": document.get("chain", {}), **beside})

    @property
    def hash(self) -> str:
        """SHA-256 over the canonical document."""
        return content_hash(self.document())

    @model_validator(mode="after")
    def _in_original_units(self) -> Self:
        if self.forecaster.family == "elsewhere" and self.chain.stages:
            raise ValueError("forecasts that were made elsewhere are in original units: they take no chain")
        if self.forecaster.family == "blend" and self.chain.stages:
            raise ValueError("a blend is of forecasts in original units, behind its members' chains: it takes none")
        return self

    @property
    def learns_as(self) -> "Contender":
        """The contender that learns the very same: correcting ranges, and safeguards, change nothing of it."""
        return self.model_copy(update=_USUAL) if self.unusual else self

    @property
    def unusual(self) -> dict[str, Any]:
        """What is said beside forecaster and chain and is not as usual."""
        return {name: getattr(self, name) for name, value in _USUAL.items() if getattr(self, name) != value}

    @property
    def is_baseline(self) -> bool:
        """Whether it is one of the naive ones."""
        return self.forecaster.family == "baseline"

    @property
    def is_blend(self) -> bool:
        """Whether it is a weighted sum of others."""
        return self.forecaster.family == "blend"

    @property
    def guarded(self) -> bool:
        """Whether safeguards hold its forecasts; yardsticks, and what was made elsewhere, are taken as they are."""
        return self.safeguards and self.forecaster.family not in ("baseline", "elsewhere")

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

    def restored(
        self, known: Panel, until: int, chain: Mapping[str, Any], facts: Mapping[str, Any],
        arrays: Mapping[str, NDArray[Any]],
    ) -> "FittedContender":  # fmt: skip
        """As it stood at `until`, from its chain's document, and facts and arrays that were kept of it."""
        fitted = FittedChain.from_document(dict(chain), known.axis, known.occasions)
        learned, guards = Guards.apart(fitted.keys, arrays)
        return FittedContender(self, known, until, fitted, ForecasterState(fitted.keys, learned, dict(facts)), guards)

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
            FittedContender(self, known, until, chain, state, Guards.learn(known, _farthest(known, work)))
            for (known, until, chain, _, work), state in zip(learned, states, strict=True)
        ]


Readers.contender = Contender.from_document


def _farthest(known: Panel, work: Work) -> int:
    """How many steps moves are looked at over, where nothing is said a season."""
    return work.horizon or max(round(known.axis.step.season), 1)


@dataclass(frozen=True, repr=False)
class FittedContender:
    """A contender with what it learned as of `until`; forecasts from there or, unchanged, from later origins.

    `guards` are the safeguards of its series as of then, None where an earlier version kept none.
    """

    contender: Contender
    known: Panel
    until: int
    chain: FittedChain
    state: ForecasterState
    guards: Guards | None = None

    def __repr__(self) -> str:
        moment = str(self.known.axis.local(np.array([self.until - 1]))[0]).replace("T", " ")
        chain = f" behind {self.contender.chain.text}" if self.chain.stages else ""
        return f"{self.contender.forecaster.title}{chain}, learned from {len(self.known)} series up to {moment}"

    def standing_on(self, panel: Panel) -> "FittedContender":
        """As it learned, at the end of other data of its series: nothing is learned anew.

        Raises `InputError` for series that it does not know, and where the grid is another one.
        """
        unknown = [key for key in panel.keys if key not in self.state.keys]
        if unknown:
            raise InputError(f"Nothing was learned of {listed([f'“{key}”' for key in unknown], 4)}.", field="key")
        moved = panel.on_axis(self.known.axis)
        return replace(self, known=moved, until=moved.end)

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
            smeared = self.contender.chain.bias_adjust and self.chain.stages
            mean = (self._smeared if smeared else self._undo)(panel, flat, origins)
            return self.held(mean, panel, origins), flat

    def held(self, found: Floats, panel: Panel, origins: Ints) -> Floats:
        """Forecasts, ends of ranges or paths (…, n_series, n_origins, horizon) within what each series has done."""
        if self.guards is None or not self.contender.guarded:
            return found
        learner = self.contender.forecaster
        return self.guards.kept(found, panel, origins, self.contender.floor, learner.tells_rates)

    def told(self, bounds: Floats, panel: Panel, origins: Ints) -> Floats:
        """Ends (n_levels, 2, n_series, n_origins, horizon) in original units, the lower first, within what is held."""
        return self.held(np.sort(bounds, axis=1), panel, origins)

    @property
    def kept(self) -> Part:
        """What is kept of it, for `Contender.restored`."""
        guards = {} if self.guards is None else self.guards.arrays()
        return Part(self.chain.document(), self.state.facts, {**self.state.arrays, **guards})

    def held_steps(self, panel: Panel, origins: Ints, horizon: int) -> Ints:
        """How many steps of forecasts safeguards moved, (n_series,)."""
        free = replace(self, contender=self.contender.model_copy(update={"safeguards": False}))
        ours, theirs = (each.means(panel, origins, horizon)[0] for each in (self, free))
        return (np.isfinite(ours) & (ours != theirs)).sum(axis=(1, 2))

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
            possible = self.simulated(horizon) if bounds is not None or self._simulates else None
            if bounds is None and possible is not None:
                bounds = self._by_errors(self.known, origins, flat, possible[:, :, None], levels)
        if possible is None:
            errors = self.flat_errors(horizon) if flat_errors is None else flat_errors
            carried = self._carried(self.known, origins, flat, errors)
            possible = self.held(carried, self.known, origins)[:, :, 0]
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
        return self.held(out, panel, origins)

    def _carried(self, panel: Panel, origins: Ints, flat: Floats, errors: Floats) -> Floats:
        """What would have been with each of the past errors: (n_rows, n_series, n_origins, horizon), original units."""
        possible = flat[:, None] - errors.transpose(1, 0, 2)[:, :, None]
        return self._undo(panel, possible, origins).transpose(1, 0, 2, 3)

    def futures(self, flat_errors: Floats) -> Floats:
        """What would come with each of some flat errors (n_rows, n_series, horizon), in original units and held."""
        origins = np.array([self.until], dtype=np.int64)
        flat = self.means(self.known, origins, flat_errors.shape[2])[1]
        return self.held(self._carried(self.known, origins, flat, flat_errors), self.known, origins)[:, :, 0]

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
        return self.told(restored.reshape(bounds.shape), panel, origins)

    def simulated(self, horizon: int, count: int = _PATHS, seed: int = 0) -> Floats | None:
        """Paths by theory from the cutoff, in original units (count, n_series, horizon), each series on its own; None
        without any."""
        learner, origins = self.contender.forecaster, np.array([self.until], dtype=np.int64)
        with single_blas_thread():
            paths = learner.simulate(self.state, self.chain.apply(self.known), self.until, horizon, count, seed)
        if paths is None:
            return None
        restored = self._undo(self.known, np.ascontiguousarray(paths.transpose(1, 0, 2)[:, :, None]), origins)
        return self.held(restored.transpose(1, 0, 2, 3), self.known, origins)[:, :, 0]

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


def forecaster(
    name: str | Forecaster, *, chain: Chain | None = None, ranges: Ranges = "own", safeguards: bool = True,
    floor: float | None = None, **settings: Any,
) -> Contender:  # fmt: skip
    """A contender by its forecaster's name; window forecasters also take a plan's settings directly.

    In walk-forward experiments, `ranges` are corrected by how those of earlier folds held: “split” or “adaptive”.
    `safeguards` hold forecasts, ranges and paths to what each series has done as of the cutoff: no step beyond 1.5 ×
    the largest move over as many steps, none below `floor` (where history never is below zero: 0), zero where a phase
    of a season always was.

    Instead of a name it takes settings from `proteron.models`, which an editor completes and checks:
    `forecaster(models.Ridge(strength=2), chain=…)`. Raises `SettingsError` for an unknown name or setting.
    """
    beside: dict[str, Any] = {"ranges": ranges, "safeguards": safeguards, "floor": floor}
    if isinstance(name, Forecaster):
        if settings:
            raise SettingsError("Settings stand in the model already; give only a chain beside it.", field="forecaster")
        return Contender.parse({"forecaster": name.document(), "chain": (chain or Chain()).document(), **beside})
    for each in FORECASTERS:
        if each.model_fields["kind"].default == name:
            if "floor" in each.model_fields and floor is not None:  # it has one of its own, which bends its curve
                settings, beside["floor"] = settings | {"floor": floor}, None
            given = with_plan(settings) if issubclass(each, WindowForecaster) else settings
            return Contender.parse({"forecaster": each.parse(given), "chain": chain or Chain(), **beside})
    known = ", ".join(forecasters())
    raise SettingsError(f"There is no forecaster “{name}”; there are: {known}.", field="forecaster")


def blend(
    members: Mapping[str, Contender], rule: RuleName = "inverse_error", *, weights: Mapping[str, float] | None = None,
    ranges: Ranges = "own", safeguards: bool = True, floor: float | None = None, **settings: Any,
) -> Contender:  # fmt: skip
    """A weighted sum of contenders by name, itself a contender; `weights` by name where they are given.

    Other rules learn weights from earlier folds of an experiment, or else from refits on earlier parts; settings are
    those of `Blend`: `power`, `drop`, `trim`, `shared`, `by_step`. Raises `SettingsError` for what does not fit.
    """
    if weights is not None and set(weights) != set(members):
        raise SettingsError("Weights are given for every member, and for nobody else.", field="weights")
    given = {
        "kind": "blend", "members": [{"name": n, "contender": c.document()} for n, c in members.items()],
        "rule": "given" if weights is not None else rule, **settings,
        **({} if weights is None else {"weights": [weights[name] for name in members]}),
    }  # fmt: skip
    return Contender.parse({"forecaster": given, "ranges": ranges, "safeguards": safeguards, "floor": floor})


def forecasters() -> dict[str, dict[str, Any]]:
    """Names of all forecasters with the JSON schema of their settings."""
    return {each.model_fields["kind"].default: each.model_json_schema() for each in FORECASTERS}
