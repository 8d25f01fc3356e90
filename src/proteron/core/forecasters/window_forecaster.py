"""What all forecasters on windows share: the plan, scaling inside the fold, many steps ahead."""

from abc import abstractmethod
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from proteron.core.errors import SettingsError, TooShortError
from proteron.core.forecasters.exchange.graph import Asked, Graph, Told
from proteron.core.forecasters.forecaster import Forecaster, ForecasterState, Work
from proteron.core.forecasters.influence import (
    Importance,
    Influence,
    over_the_series,
    picture_of,
    pictures_of,
    shuffled,
)
from proteron.core.forecasters.learned_ranges import shares_of_levels
from proteron.core.forecasters.pictures import Picture
from proteron.core.forecasters.window_parts import by_source
from proteron.core.panel import Covariate, Floats, Panel
from proteron.core.timeline import CYCLES, Ints
from proteron.core.windows import CalendarCycle, Static, Table, WindowPlan, default_plan

_ROWS_AT_ONCE = 8192
_CELLS_AT_ONCE = 4_000_000
_SHUFFLED, _FEWEST_SHUFFLED = 100, 20  # windows of which features are shuffled
_ERRORS = 200  # of the last windows, which paths are simulated with
_INSTEAD = 2  # columns that are looked at in turn where one is missing
_LISTED = 12  # features that are


def spread_of(values: Floats, axis: int = 0) -> Floats:
    """Standard deviation, 1 where it is (almost) zero or undefined."""
    with np.errstate(invalid="ignore"):
        spread = values.std(axis=axis)
        flat = ~(spread > 1e-12 * np.maximum(np.abs(values).max(axis=axis, initial=0.0), 1e-300))
    return np.where(flat, 1.0, spread)


@dataclass(frozen=True)
class Scaling:
    """Level and spread of every series, learned on known points; (n_series,) each."""

    level: Floats
    spread: Floats

    @classmethod
    def learn(cls, known: Panel) -> "Scaling":
        """Learn from flat values that end at the cutoff; raises `ProteronError` where that cannot be."""
        level, spread = np.zeros(len(known)), np.ones(len(known))
        for index in range(len(known)):
            values = known.series(index)[~np.isnan(known.series(index))]
            if len(values):
                level[index], spread[index] = values.mean(), float(spread_of(values))
            else:
                level[index] = np.nan
        return cls(level, spread)

    def apply(self, panel: Panel) -> Panel:
        """`panel`'s series, in the order this was learned in, in learned spreads from the level."""
        return panel.with_values(
            (panel.values - np.repeat(self.level, panel.lengths)) / np.repeat(self.spread, panel.lengths)
        )


class WindowForecaster(Forecaster):
    """A learner of rows: windows in, the next steps out.

    Direct: one target per step ahead up to the horizon, beyond it the forecasts are fed back block
    by block. Recursive: one step, fed back every step. A plan whose steps ahead are not 1 … n is
    taken at its word: those steps are forecast and no others. Rows count with the plan's weights.
    """

    family: ClassVar[str] = "windows"
    can: ClassVar[tuple[str, ...]] = ("trend", "seasons", "covariates")
    plan: WindowPlan | None = Field(None, title="Window plan", description="Empty: chosen from the step and length.")
    strategy: Literal["direct", "recursive"] = Field(
        "direct", title="Many steps", description="Direct: a target per step. Recursive: forecasts are fed back."
    )

    reads_short: ClassVar[bool] = False  # series that began too late for a whole window have a forecast too

    @property
    def simulates(self) -> bool:
        """Whether paths are simulated with errors of the last windows, drawn anew at every step that is fed back."""
        return False

    @property
    def way(self) -> str:
        """How it goes many steps: direct or recursive."""
        return self.strategy

    def look_back(self, state: ForecasterState, known: Panel) -> int:
        """Points up to and including the origin that its plan reads."""
        return WindowPlan.parse(state.facts["plan"]).look_back

    def reads_ahead(self, panel: Panel, horizon: int) -> dict[str, int]:
        """Columns known ahead at steps after the origin, block by block or step by step as it goes on."""
        plan = self.resolved_plan(panel, horizon)
        block = len(plan.horizon)
        before = horizon - 1 if plan.recursive else (-(-horizon // block) - 1) * block
        found: dict[str, int] = {}
        for each in plan.covariates:
            if max(each.at) > 0 and panel.covariate(each.column).role == "known_ahead":
                found[each.column] = max(found.get(each.column, 0), before + max(each.at))
        return found

    @property
    def most_rows(self) -> int | None:
        """Rows it can look at in all its learning; more are not cut. None: it looks at every one."""
        return None

    @abstractmethod
    def learn_rows(self, table: Table, known: Panel, work: Work) -> ForecasterState:
        """Learn from rows of scaled values; the state's arrays must let `predict` do its work."""

    @abstractmethod
    def predict(self, state: ForecasterState, features: Floats, series: Ints) -> Floats:
        """Scaled forecasts (n_rows, n_steps) for scaled features, `series` (n_rows,) rows of the state."""

    def write_graph(self, state: ForecasterState, asked: Asked) -> Told:
        """Operators from features to `mean` (n_rows, n_steps) in flat units, and to ranges where they were learned, of
        those with `has_graph`."""
        raise NotImplementedError

    def shares_of(self, state: ForecasterState, features: Floats, step: int) -> tuple[Floats, float] | None:
        """What each of scaled `features` (n_features,) adds to the scaled forecast of a step (from 0), and what that
        is of an average window: together the forecast. None where nothing tells."""
        return None

    def shares_in(self, state: ForecasterState, row: int, features: Floats, step: int) -> tuple[Floats, float] | None:
        """The same for a row of the state, of those who tell it exactly and at once; None from others."""
        return None

    def influence(self, state: ForecasterState, panel: Panel, key: str, step: int) -> Influence | None:
        """What the forecast of a step ahead (1 …) looks at, from the end of `panel`; None where nothing tells, or no
        window is complete there."""
        plan = WindowPlan.parse(state.facts["plan"])
        row, features = state.row(key), self._latest(state, panel, key)
        if step not in plan.horizon or features is None:
            return None
        level, spread = float(state.arrays["level"][row]), float(state.arrays["spread"][row])
        told = self.shares_of(state, features[0], plan.horizon.index(step))
        if told is None or not np.isfinite(told[0]).all():
            return None
        shares, average = told[0] * spread, told[1] * spread + level
        lags = np.array([*plan.lags, *[0] * (len(plan.names) - len(plan.lags))])
        return Influence(step, tuple(plan.names), lags, shares, average, float(average + shares.sum()))

    def _latest(self, state: ForecasterState, panel: Panel, key: str) -> Floats | None:
        """Scaled features (1, n_features) at the end of `panel`; None without a whole window."""
        plan, row = WindowPlan.parse(state.facts["plan"]), state.row(key)
        alone = panel.select([panel.keys.index(key)])
        if alone.lengths[0] < plan.look_back:
            return None
        scaled = Scaling(state.arrays["level"][[row]], state.arrays["spread"][[row]]).apply(alone)
        last = np.array([int(alone.lengths[0]) - 1])
        return self.written(state, plan, scaled, last, np.zeros(1, dtype=np.int64))

    def importance(self, state: ForecasterState, panel: Panel, key: str, columns: Ints) -> Importance | None:
        """How much a series' error grows when a feature is shuffled among its last windows; None with too few.

        `columns` of the plan's features; the last sixth of `panel`, which most of what was learned lies before.
        """
        plan, index, row = WindowPlan.parse(state.facts["plan"]), panel.keys.index(key), state.row(key)
        alone = panel.select([index])
        level, spread = float(state.arrays["level"][row]), float(state.arrays["spread"][row])
        scaled = Scaling(np.array([level]), np.array([spread])).apply(alone)
        count, furthest = int(alone.lengths[0]), max(plan.horizon)
        first, last = max(plan.look_back, count - count // 6), count - furthest
        if last - first < _FEWEST_SHUFFLED:
            return None
        points = np.unique(np.linspace(first, last, _SHUFFLED).astype(np.int64)) - 1
        truth = scaled.values[points[:, None] + np.array(plan.horizon)]
        features = plan.write(plan.rows_at(scaled, points, np.zeros(len(points), dtype=np.int64)))
        whole = np.isfinite(truth).all(axis=1) & np.isfinite(features).all(axis=1)
        if whole.sum() < _FEWEST_SHUFFLED:
            return None

        def predict(rows: Floats) -> Floats:
            return self.predict(state, rows, np.full(len(rows), row, dtype=np.int64))

        growth, apart, error = shuffled(predict, features[whole], truth[whole], columns, 0)
        names = tuple(plan.names[column] for column in columns)
        return Importance(names, growth * spread, apart * spread, error * spread)

    def pictures(self, state: ForecasterState, panel: Panel, key: str) -> list[Picture]:
        """What the first and the last step ahead look at, and how much the error grows without most of it."""
        steps = WindowPlan.parse(state.facts["plan"]).horizon
        tried = [self.influence(state, panel, key, step) for step in dict.fromkeys((steps[0], steps[-1]))]
        found = [each for each in tried if each is not None]
        if not found:
            return []
        most = np.argsort(-np.max([np.abs(each.shares) for each in found], axis=0), kind="stable")[:_LISTED]
        over = [over_the_series(each, panel[key]) for each in found if each.lags.any()]
        return [*over, *pictures_of(found), *picture_of(self.importance(state, panel, key, most))]

    def resolved_plan(self, known: Panel, horizon: int | None) -> WindowPlan:
        """The plan with its horizon settled: 1 … n for direct, 1 for recursive, chosen steps as they are."""
        plan = self.plan or default_plan(known)
        bound = [name for feature in plan.features if feature.unit_bound for name in feature.names]
        if bound:
            raise SettingsError(
                f"“{bound[0]}” compares values in their own unit, and {self.title} centres and scales them first: "
                "take it out of the contender's plan.",
                field="plan",
            )
        if plan.horizon != tuple(range(1, len(plan.horizon) + 1)):
            if self.strategy == "recursive":
                raise SettingsError("Forecasts are fed back step by step: the plan's horizon is 1 then.", field="plan")
            return plan.model_copy(update={"missing": "drop"})
        recursive = self.strategy == "recursive" or plan.recursive
        if recursive:
            plan = plan.model_copy(update={"horizon": (1,), "recursive": True})
            _refuse_pooled(plan, self.title)
        asked = horizon or (max(plan.horizon) if max(plan.horizon) > 1 else min(known.axis.step.season, 48))
        steps = 1 if recursive else max(asked, max(plan.horizon))
        return plan.model_copy(update={"horizon": tuple(range(1, steps + 1)), "missing": "drop"})

    def learn(self, known: Panel, work: Work) -> ForecasterState:
        """Learn from flat values that end at the cutoff; raises `ProteronError` where that cannot be."""
        plan = self.resolved_plan(known, work.horizon)
        work.go_on()
        scaling = Scaling.learn(known)
        scaled, most = scaling.apply(known), self.most_rows
        table = plan.cut(scaled) if most is None else plan.sample(scaled, most, work.seed)
        filled = len(table) * 4 < table.incomplete
        if filled:
            table = _with_means(plan, scaled)
        if not len(table):
            needed = plan.look_back + len(plan.horizon)
            raise TooShortError(
                f"{self.title}: no complete window; {needed} points in a row are needed, "
                f"{int(known.lengths.max(initial=0))} are known.",
                field="plan",
            )  # fmt: skip
        state = self.learn_rows(table, known, work)
        arrays = state.arrays | {"level": scaling.level, "spread": scaling.spread}
        facts = state.facts | {"plan": plan.document(), "windows": len(table), "gaps_filled": filled}
        if self.reads_short:
            short = known.lengths < plan.look_back
            arrays["needed"] = np.where(short, min(max(latest_lags(plan), 1), plan.look_back), plan.look_back)
            facts["instead"] = instead_of(plan, known).tolist()
        learned = ForecasterState(known.keys, arrays, facts)
        if self.simulates and plan.recursive:
            arrays["errors"] = self._last_errors(learned, table)
        return learned

    def _last_errors(self, state: ForecasterState, table: Table) -> Floats:
        """Scaled errors one step ahead of the last windows of every series (n_series, n), right-aligned, else NaN."""
        out = np.full((len(state.keys), _ERRORS), np.nan)
        for index in range(len(state.keys)):
            rows = np.flatnonzero(table.series == index)[-_ERRORS:]
            if len(rows):
                said = self.predict(state, table.features[rows], np.full(len(rows), index))
                out[index, -len(rows) :] = table.targets[rows, 0] - said[:, 0]
        return out

    def simulate(
        self, state: ForecasterState, panel: Panel, origin: int, horizon: int, count: int, seed: int
    ) -> Floats | None:
        """Flat paths from one origin (count, n_series, horizon): errors are drawn from the last windows of each series,
        at the same places for all, so that they keep their correlation."""
        if "errors" not in state.arrays:
            return None
        out = np.full((count, len(panel), horizon), np.nan)
        drawn = np.random.default_rng([seed, len(panel)]).uniform(size=(count, horizon))
        for at in self._pieces(state, panel, np.array([origin])):
            errors = state.arrays["errors"][at.row]
            errors = errors[np.isfinite(errors)]
            if not len(at.chunk) or not len(errors):
                continue
            noise = errors[len(errors) - 1 - (drawn * len(errors)).astype(np.int64)]
            points, series = np.repeat(at.points, count), np.repeat(at.series, count)
            flat = self._ahead(state, at.plan, at.scaled, points, series, at.row, horizon, noise - errors.mean())
            out[:, at.index] = flat * at.spread + at.level
        return out

    def means(self, state: ForecasterState, panel: Panel, origins: Ints, horizon: int) -> Floats:
        """Flat means (n_series, n_origins, horizon), each reading points before its origin only."""
        out = np.full((len(panel), len(origins), horizon), np.nan)
        for at in self._pieces(state, panel, origins):
            flat = self._ahead(state, at.plan, at.scaled, at.points, at.series, at.row, horizon)
            out[at.index, at.chunk] = flat * at.spread + at.level
        return out

    def parts(self, state: ForecasterState, panel: Panel, key: str, origin: int, horizon: int) -> dict[str, Floats]:
        """What a flat forecast is made of, by what the features read, (horizon,) each; empty where nothing tells."""
        alone = panel.select([panel.index(key)])
        for at in self._pieces(state, alone, np.array([origin])):
            block, seen = len(at.plan.horizon), list[Floats]()
            if not len(at.chunk) or at.plan.horizon != tuple(range(1, block + 1)):
                return {}
            self._ahead(state, at.plan, at.scaled, at.points, at.series, at.row, horizon, seen=seen)
            steps = range(horizon)
            told = [self.shares_in(state, at.row, seen[step // block][0], step % block) for step in steps]
            known = [each for each in told if each is not None]
            return by_source(at.plan.features, known, at.spread, at.level) if len(known) == horizon else {}
        return {}

    def scaled_ends(
        self, state: ForecasterState, features: Floats, levels: Sequence[float], level: float, spread: float
    ) -> Floats:
        """Scaled ends of ranges (n_levels, 2, n_rows, n_steps) of one series with that level and spread, of those who
        tell them."""
        raise NotImplementedError

    def ranges(
        self, state: ForecasterState, panel: Panel, origins: Ints, horizon: int, levels: Sequence[float]
    ) -> Floats | None:
        """Flat ranges that were learned, (n_levels, 2, n_series, n_origins, horizon); None beyond the steps and levels
        that were."""
        steps = WindowPlan.parse(state.facts["plan"]).horizon
        unknown = self.learns_levels and not set(shares_of_levels(levels)) <= set(state.facts["shares"])
        if not self.tells_ranges or unknown or horizon > len(steps) or steps != tuple(range(1, len(steps) + 1)):
            return None
        out = np.full((len(levels), 2, len(panel), len(origins), horizon), np.nan)
        for at in self._pieces(state, panel, origins):
            ends = self.scaled_ends(state, at.features(), levels, at.level, at.spread)[..., :horizon]
            out[:, :, at.index, at.chunk] = ends * at.spread + at.level
        return out

    def _pieces(self, state: ForecasterState, panel: Panel, origins: Ints) -> Iterator["_Piece"]:
        """Origins that have a whole window, series by series, as many at a time as there is room for."""
        plan = WindowPlan.parse(state.facts["plan"])
        rows_of = np.array([state.row(key) for key in panel.keys], dtype=np.int64)
        scaling = Scaling(state.arrays["level"][rows_of], state.arrays["spread"][rows_of])
        scaled = scaling.apply(panel)
        for index in range(len(panel)):
            local = origins - panel.starts[index]
            needed = int(state.arrays["needed"][rows_of[index]]) if self.reads_short else plan.look_back
            possible = np.flatnonzero((local >= needed) & (local <= panel.lengths[index]))
            for chunk in np.array_split(possible, max(1, -(-len(possible) // self._at_once(plan, scaled, index)))):
                points = panel.offsets[index] + local[chunk] - 1
                series = np.full(len(chunk), index, dtype=np.int64)
                yield _Piece(self, state, plan, scaled, index, int(rows_of[index]), chunk, points, series,
                             float(scaling.level[index]), float(scaling.spread[index]))  # fmt: skip

    def written(self, state: ForecasterState, plan: WindowPlan, scaled: Panel, points: Ints, series: Ints) -> Floats:
        """Scaled features (n_rows, n_features) as of `points`; a missing lag is that of a season later."""
        features = plan.write(plan.rows_at(scaled, points, series))
        return with_instead(features, np.array(state.facts["instead"])) if self.reads_short else features

    @staticmethod
    def _at_once(plan: WindowPlan, panel: Panel, index: int) -> int:
        """Rows forecast together: fewer where each brings its whole past along."""
        return min(_ROWS_AT_ONCE, _CELLS_AT_ONCE // int(panel.lengths[index]) + 1 if plan.needs_whole_series else 2**31)

    def _ahead(
        self,
        state: ForecasterState,
        plan: WindowPlan,
        scaled: Panel,
        points: Ints,
        series: Ints,
        row: int,
        horizon: int,
        noise: Floats | None = None,
        seen: list[Floats] | None = None,
    ) -> Floats:
        """Scaled forecasts (n_rows, horizon): the first block from the data, later ones fed back; `noise` (n_rows,
        horizon) is added to each before that. What each block sees, (n_rows, n_features), is added to `seen`."""
        rows = np.full(len(points), row, dtype=np.int64)
        seen = [] if seen is None else seen
        seen.append(self.written(state, plan, scaled, points, series))
        first = self.predict(state, seen[0], rows)
        block = first.shape[1]
        if plan.horizon != tuple(range(1, block + 1)):
            chosen = np.full((len(points), max(*plan.horizon, horizon)), np.nan)
            chosen[:, np.array(plan.horizon) - 1] = first
            return chosen[:, :horizon]
        added = np.zeros((1, horizon)) if noise is None else noise
        if horizon <= block:
            return first[:, :horizon] + added
        _refuse_pooled(plan, self.title)
        context = plan.look_back
        if plan.needs_whole_series:
            context = max(context, int((points - scaled.offsets[series]).max()) + 1)
        tails = _tails(scaled, context, points, series, horizon)
        for done in range(0, horizon, block):
            if done:
                here = np.arange(len(points)) * tails.shape[1] + context + done - 1
                panel = _tail_panel(scaled, plan, points, series, tails, context)
                seen.append(self.written(state, plan, panel, here, np.arange(len(points))))
                first = self.predict(state, seen[-1], rows)
            stop = min(done + block, horizon)
            tails[:, context + done : context + stop] = first[:, : stop - done] + added[:, done:stop]
        return tails[:, context:]


@dataclass(frozen=True)
class _Piece:
    """Origins of one series that are forecast together: `chunk` of those asked for, `points` of the scaled panel."""

    learner: WindowForecaster
    state: ForecasterState
    plan: WindowPlan
    scaled: Panel
    index: int
    row: int
    chunk: Ints
    points: Ints
    series: Ints
    level: float
    spread: float

    def features(self) -> Floats:
        """Scaled features (n_rows, n_features)."""
        return self.learner.written(self.state, self.plan, self.scaled, self.points, self.series)


def latest_lags(plan: WindowPlan) -> int:
    """How many lags there are from the first on without a hole."""
    run = 0
    while run < len(plan.lags) and plan.lags[run] == run + 1:
        run += 1
    return run


def categories_of(plan: WindowPlan, known: Panel) -> dict[int, int]:
    """Columns of a plan's table that number categories or slots of the calendar, with how many there are."""
    found, first = {}, 0
    for feature in plan.features:
        if isinstance(feature, CalendarCycle) and feature.form == "number":
            found[first] = int(CYCLES[feature.field])
        elif isinstance(feature, Static) and feature.form == "number" and known.covariate(feature.column).labels:
            found[first] = len(known.covariate(feature.column).labels)
        first += len(feature.names)
    return found


def instead_of(plan: WindowPlan, known: Panel) -> Ints:
    """For every column of a plan the one that is read where it is missing (n_features,): of a lag that of a season
    later, or the first; of all others themselves."""
    seasons = sorted((round(each) for each in known.axis.step.seasons), reverse=True)
    at = {lag: place for place, lag in enumerate(plan.lags)}
    found = np.arange(len(plan.names))
    for lag, place in at.items():
        later = [at[lag - season] for season in seasons if lag - season in at]
        found[place] = later[0] if later else at.get(1, place)
    return found


def with_instead(features: Floats, instead: Ints) -> Floats:
    """Features whose missing cells are those of the columns `instead`, or of what stands instead of these."""
    for _ in range(_INSTEAD):
        missing = np.isnan(features)
        if not missing.any():
            break
        features = np.where(missing, features[:, instead], features)
    return features


def write_instead(graph: Graph, features: str, instead: Ints) -> str:
    """As `with_instead`, by operators."""
    for _ in range(_INSTEAD):
        features = graph.node("Where", graph.node("IsNaN", features), graph.gathered(features, instead, 1), features)
    return features


def _with_means(plan: WindowPlan, scaled: Panel) -> Table:
    """The table of a very gappy panel: rows with a target stay, missing features become their mean."""
    table = plan.model_copy(update={"missing": "keep"}).cut(scaled)
    rows = np.isfinite(table.targets).all(axis=1) & np.isfinite(table.features).any(axis=1)
    features = table.features[rows]
    present = np.isfinite(features)
    means = np.where(present, features, 0.0).sum(axis=0) / np.maximum(present.sum(axis=0), 1)
    return replace(
        table,
        features=np.where(present, features, means),
        targets=table.targets[rows],
        positions=table.positions[rows],
        series=table.series[rows],
        weights=table.weights[rows],
    )


def _refuse_pooled(plan: WindowPlan, title: str) -> None:
    pooled = [name for feature in plan.features if feature.pooled for name in feature.names]
    if pooled:
        raise SettingsError(
            f"{title}: “{pooled[0]}” reads all series together, and forecasts that are fed back know only their own. "
            "Take it out, or learn every step ahead directly.",
            field="plan",
        )


def _tails(panel: Panel, context: int, points: Ints, series: Ints, horizon: int) -> Floats:
    """Per row the `context` points up to its origin (missing before the series began), and room for the horizon."""
    local = (points - panel.offsets[series])[:, None] + np.arange(1 - context, 1)
    tails = np.full((len(points), context + horizon), np.nan)
    tails[:, :context] = np.where(local >= 0, panel.values[panel.offsets[series][:, None] + local.clip(0)], np.nan)
    return tails


def _tail_panel(
    panel: Panel, plan: WindowPlan, points: Ints, series: Ints, tails: Floats, context: int
) -> Panel:  # fmt: skip
    """The tails as a panel of one short series per row, so that features are written as ever."""
    offsets = np.arange(len(points) + 1) * tails.shape[1]
    starts = points - panel.offsets[series] + panel.starts[series] - context + 1
    names = {column for feature in plan.features for column in feature.columns}
    covariates = tuple(
        _tail_column(panel.covariate(name), points - panel.offsets[series], series, context, tails.shape[1])
        for name in sorted(names)
    )
    keys = tuple(str(row) for row in range(len(points)))
    marks = np.zeros(tails.size, dtype=np.uint8)
    return replace(
        panel, keys=keys, values=tails.ravel(), offsets=offsets, starts=starts, covariates=covariates, marks=marks
    )  # fmt: skip


def _tail_column(covariate: Covariate, local: Ints, series: Ints, context: int, width: int) -> Covariate:
    """One covariate along every tail: as far as it reaches, an observed one up to the row's origin."""
    starts = covariate.offsets[series]
    lengths = covariate.offsets[series + 1] - starts
    if covariate.role == "static":
        held = np.where(lengths > 0, covariate.values[np.minimum(starts, len(covariate.values) - 1)], np.nan)
        return replace(covariate, values=held, offsets=np.arange(len(local) + 1))
    steps = np.arange(1 - context, 1 - context + width)
    at = local[:, None] + steps
    known = (at >= 0) & (at < lengths[:, None])
    if covariate.role == "observed":
        known &= steps <= 0
    cells = np.where(known, covariate.values[starts[:, None] + np.where(known, at, 0)], np.nan)
    return replace(covariate, values=cells.ravel(), offsets=np.arange(len(local) + 1) * width)


def chronological_split(table: Table, share: float, title: str) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """Rows to train on, and that share of later ones held out; no target of the former lies in the latter's span.

    Raises `TooShortError` where there is nothing left to train on.
    """
    positions = np.unique(table.positions)
    border = positions[min(int(len(positions) * (1 - share)), len(positions) - 1)]
    held_out = table.positions >= border
    train = table.positions + max(table.plan.horizon) <= border
    if not train.any():
        train = ~held_out
    if not train.any():
        raise TooShortError(f"{title}: {len(table)} windows are too few to train and validate on.", field="plan")
    return train, held_out


def standardise(features: Floats, weights: Floats) -> tuple[Floats, Floats, Floats]:
    """Columns in spreads from their mean weighted by `weights` (n_rows,), with mean and spread (n_features,)."""
    centre, spread = np.average(features, axis=0, weights=weights), spread_of(features)
    return (features - centre) / spread, centre, spread


def compact(cells: Floats, rows: NDArray[np.bool_], dtype: Any, centre: Any = 0.0, spread: Any = 1.0) -> NDArray[Any]:
    """Chosen rows scaled and in another precision, a piece at a time."""
    chosen = np.flatnonzero(rows)
    out = np.empty((len(chosen), cells.shape[1]), dtype=dtype)
    for start in range(0, len(chosen), _ROWS_AT_ONCE):
        piece = chosen[start : start + _ROWS_AT_ONCE]
        out[start : start + len(piece)] = (cells[piece] - centre) / spread
    return out


def standardised(features: Floats, centre: Floats, spread: Floats) -> Floats:
    """Columns scaled as learned; a missing cell becomes its learned mean."""
    scaled: Floats = (features - centre) / spread
    return np.where(np.isnan(scaled), 0.0, scaled)


def plan_settings() -> set[str]:
    """Names a window forecaster accepts in place of a whole plan."""
    return set(WindowPlan.model_fields) - {"schema_version"}


def with_plan(settings: dict[str, Any]) -> dict[str, Any]:
    """Gather loose plan settings (lags, rolling …) into a plan."""
    loose = {name: settings[name] for name in plan_settings() & settings.keys()}
    rest = {name: value for name, value in settings.items() if name not in loose}
    return rest | {"plan": WindowPlan(**loose)} if loose else rest
