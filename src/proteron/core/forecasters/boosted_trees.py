"""Gradient-boosted trees on windows, one model for the whole panel."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from proteron.core.errors import InputError, SettingsError
from proteron.core.forecasters.aligned import aligned_columns, nearest_columns, some_of, with_aligned_lags
from proteron.core.forecasters.exchange.graph import Asked, Told
from proteron.core.forecasters.exchange.tree_graph import write_trees
from proteron.core.forecasters.forecaster import ForecasterState, Progress, Training, Work
from proteron.core.forecasters.learned_ranges import ends_of_quantiles, shares_of_levels
from proteron.core.forecasters.trees.attribution import attribute
from proteron.core.forecasters.trees.binning import LOOKED_AT, Binned, Bins
from proteron.core.forecasters.trees.boosting import Boosted, Boosting, Rows
from proteron.core.forecasters.trees.losses import LossName, loss_named
from proteron.core.forecasters.trees.tree import Shape
from proteron.core.forecasters.window_forecaster import Scaling, WindowForecaster, categories_of, chronological_split
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints
from proteron.core.windows import Table, WindowPlan, default_plan

_ROWS_AT_ONCE = 8192  # that are binned
_PAIRS = 400_000  # rows × steps ahead that one model for all steps learns from
_APART_UP_TO = 4_000_000  # rows × features × steps for which every step gets trees of its own


class BoostedTrees(WindowForecaster):
    """Trees grown one after the other, each on what those before left over, splitting binned features.

    Every step ahead has trees of its own where that is little work. Else one set learns all steps, with the step as a
    feature, and beside it, of every season whose lags the plan holds, the value one season before the target. The
    chronologically last windows are held out, and the number of trees that was best on them is kept.
    """

    title: ClassVar[str] = "boosted trees on windows"
    can: ClassVar[tuple[str, ...]] = ("seasons", "covariates")  # a leaf says nothing that was never there
    panel_wide: ClassVar[bool] = True
    reads_short: ClassVar[bool] = True
    has_graph: ClassVar[bool] = True
    version: ClassVar[int] = 3
    form: ClassVar[int] = 2
    cost: ClassVar[float] = 60.0
    kind: Literal["boosted_trees"] = "boosted_trees"
    trees: int = Field(200, ge=1, le=5_000, title="Trees at most")
    rate: float = Field(
        0.08, gt=0, le=1, title="Learning rate", description="What counts of every tree.",
        json_schema_extra={"search": {"low": 0.02, "high": 0.3, "log": True}},
    )  # fmt: skip
    leaves: int = Field(
        31, ge=2, le=1024, title="Leaves of a tree",
        json_schema_extra={"search": {"low": 4, "high": 64, "log": True, "whole": True}},
    )  # fmt: skip
    leaf_rows: float = Field(
        20, ge=0, title="Rows of a leaf at least",
        json_schema_extra={"search": {"low": 5, "high": 100, "log": True, "whole": True}},
    )  # fmt: skip
    loss: LossName | Literal["quantiles"] = Field(
        "squared", title="Loss",
        description="Poisson and Tweedie: for what is never negative. Quantiles: ranges are learned too.",
    )  # fmt: skip
    share: float = Field(0.5, gt=0, lt=1, title="Share below", description="Of the quantile, where that is the loss.")
    steps: Literal["auto", "apart", "together"] = Field(
        "auto", title="Steps ahead", description="Trees for each, or one set for all; auto: by how much there is."
    )
    rows: float = Field(0.8, gt=0, le=1, title="Share of rows a tree sees", json_schema_extra={"advanced": True})
    columns: float = Field(0.8, gt=0, le=1, title="Share of features a tree sees", json_schema_extra={"advanced": True})
    shrink: float = Field(1.0, ge=0, title="Shrinkage of leaves", json_schema_extra={"advanced": True})
    depth: int = Field(32, ge=1, le=64, title="Depth at most", json_schema_extra={"advanced": True})
    rising: tuple[str, ...] = Field(
        (), title="Rising with", description="Features: what is forecast never falls as one of them rises.",
        json_schema_extra={"advanced": True},
    )  # fmt: skip
    falling: tuple[str, ...] = Field(
        (), title="Falling with", description="Features: what is forecast never rises as one of them rises.",
        json_schema_extra={"advanced": True},
    )  # fmt: skip
    order: Literal["best", "level"] = Field(
        "best", title="Growth", description="The leaf that gains most first, or level by level.",
        json_schema_extra={"advanced": True},
    )  # fmt: skip
    power: float = Field(1.5, gt=1, lt=2, title="Power of Tweedie's variance", json_schema_extra={"advanced": True})
    patience: int = Field(20, ge=1, title="Patience", description="Trees without a better validation loss.")
    validation: float = Field(
        0.15, gt=0, lt=0.9, title="Validation share", description="The chronologically last part of what is known."
    )

    @property
    def most_rows(self) -> int | None:
        """Rows that all its learning can look at."""
        return _PAIRS

    def resolved_plan(self, known: Panel, horizon: int | None) -> WindowPlan:
        """The plan with its horizon settled; one that is not given also has the lags a season before every step."""
        plan = super().resolved_plan(known, horizon)
        if self.plan is not None or plan.recursive:
            return plan
        return with_aligned_lags(plan, known)

    def learn_rows(self, table: Table, known: Panel, work: Work) -> ForecasterState:
        """Learn from rows of scaled values."""
        assert isinstance(table.plan, WindowPlan)
        rng = np.random.default_rng(work.seed)
        train, held_out = chronological_split(table, self.validation, self.title)
        ground = self._ground(table, known, train)
        targets, weights = (
            self._targets(table, known, ground),
            table.weights if table.weights.any() else np.ones(len(table)),
        )
        names, numbered = [table.names[column] for column in ground.columns], categories_of(table.plan, known)
        looked_at = np.flatnonzero(train)[:: max(1, -(-int(train.sum()) // LOOKED_AT))]
        kinds = [column in numbered for column in ground.columns]
        raw = Bins.learn(table.features[np.ix_(looked_at, ground.columns)], kinds)
        binned = np.empty((len(ground.columns), len(table)), dtype=np.uint8)
        for first in range(0, len(table), _ROWS_AT_ONCE):
            piece = slice(first, first + _ROWS_AT_ONCE)
            binned[:, piece] = raw.apply(table.features[piece][:, ground.columns])
        learned: list[Boosted] = []
        told = shares_of_levels(work.levels) if self.loss == "quantiles" else (self.share,)
        jobs = [(steps, share) for share in told for steps in ground.groups]
        for place, (steps, share) in enumerate(jobs):

            def tell(losses: Sequence[float], later: Sequence[float], place: int = place) -> None:
                work.go_on()
                share = (place + len(losses) / self.trees) / len(jobs)
                work.report(Progress(share, f"tree {len(losses) + 1}", tuple(losses), tuple(later)))

            pairs = _pairs(train, steps, rng)
            beside = ground.beside(table.features, *pairs)
            bins = raw.joined(Bins.learn(beside))
            rows, later = (
                Rows(bins_of(binned, bins, ground.beside(table.features, at, step), at), targets[at, step], weights[at])
                for at, step in (pairs, _pairs(held_out, steps, rng))
            )
            signs = self._monotone(names, len(bins.edges))
            learned.append(self._boosting(share).fit(bins, rows, later, rng, signs, tell))
        arrays, facts = _stored(learned)
        facts |= {
            "form": self.form, "names": names, "columns": ground.columns.tolist(), "shares": list(told),
            "aligned": {str(season): at.tolist() for season, at in ground.aligned.items()},
            "groups": [list(steps) for steps in ground.groups],
            "start": None if ground.start is None else ground.start.tolist(),
            "train": int(train.sum()), "held_out": int(held_out.sum()),
        }  # fmt: skip
        return ForecasterState(known.keys, arrays, facts)

    def _ground(self, table: Table, known: Panel, train: NDArray[np.bool_]) -> "_Ground":
        way = "together" if self.loss == "quantiles" else self.steps
        ground = _Ground.of(table, known, way, self.plan is not None, self._positive or bool(self._signs), train)
        return replace(ground, aligned={}) if self._signs else ground  # nothing unnamed may drive against what is named

    @property
    def _signs(self) -> dict[str, int]:
        return dict.fromkeys(self.falling, -1) | dict.fromkeys(self.rising, 1)

    def _monotone(self, names: Sequence[str], width: int) -> list[int]:
        """Which way each of `width` features, the first of them named, may drive the forecast: 1 up, -1 down, 0 any."""
        unknown = [name for name in self._signs if name not in names]
        if unknown:
            raise SettingsError(f"The plan has no feature “{unknown[0]}”; it has: {', '.join(names)}.", field="rising")
        return [self._signs.get(name, 0) for name in names] + [0] * (width - len(names))

    def _boosting(self, share: float) -> Boosting:
        shape = Shape(self.leaves, self.depth, self.leaf_rows, self.shrink, self.order)
        loss = loss_named("quantile" if self.loss == "quantiles" else self.loss, share, self.power)
        return Boosting(shape, loss, self.trees, self.rate, self.rows, self.columns, self.patience)

    @property
    def _positive(self) -> bool:
        return self.loss in ("poisson", "tweedie")

    def _targets(self, table: Table, known: Panel, ground: "_Ground") -> Floats:
        """Scaled targets less what they start from; for losses of what is never negative, in means of their series."""
        if not self._positive:
            return table.targets - ground.starts(table.features)
        scaling = Scaling.learn(known)
        level = scaling.level[table.series][:, None]
        values = table.targets * scaling.spread[table.series][:, None] + level
        if values.min(initial=0.0) < -1e-9 * np.abs(values).max(initial=1.0):
            raise InputError(f"{self.title}: with the loss “{self.loss}” no value may be negative.", field="loss")
        return np.maximum(values, 0.0) / np.where(level > 0, level, 1.0)

    def predict(self, state: ForecasterState, features: Floats, series: Ints) -> Floats:
        """Scaled forecasts (n_rows, n_steps) for scaled features."""
        out = self._quantiles(state, features)[..., len(state.facts["shares"]) // 2]
        if self._positive:
            level, spread = state.arrays["level"][series][:, None], state.arrays["spread"][series][:, None]
            return (np.exp(out) * np.where(level > 0, level, 1.0) - level) / spread
        return out

    def _quantiles(self, state: ForecasterState, features: Floats) -> Floats:
        """What is told of scaled features (n_rows, n_steps, n_shares): the one forecast, or quantiles, of which
        none lies beyond its neighbour farther from the middle."""
        ground, models = _Ground.from_facts(state.facts), _models(state)
        steps, shares = sum(map(len, ground.groups)), len(state.facts["shares"])
        out = np.empty((len(features), steps, shares))
        everyone = np.arange(len(features))
        raw = models[0].bins.part(0, len(ground.columns)).apply(features[:, ground.columns])
        for place, model in enumerate(models):
            for step in ground.groups[place % len(ground.groups)]:
                beside = ground.beside(features, everyone, np.full(len(features), step))
                out[:, step, place // len(ground.groups)] = model.score(bins_of(raw, model.bins, beside, everyone))
        starts = 0.0 if self._positive else ground.starts(features)
        middle = shares // 2
        np.maximum.accumulate(out[..., middle:], axis=2, out=out[..., middle:])
        lower = out[..., middle::-1]
        np.minimum.accumulate(lower, axis=2, out=lower)
        return out + np.atleast_2d(starts)[..., None]

    @property
    def tells_ranges(self) -> bool:
        """Whether it learned them."""
        return self.loss == "quantiles"

    @property
    def learns_levels(self) -> bool:
        """Quantiles are those of the levels asked for."""
        return self.loss == "quantiles"

    def scaled_ends(
        self, state: ForecasterState, features: Floats, levels: Sequence[float], level: float, spread: float
    ) -> Floats:
        """Scaled ends of ranges (n_levels, 2, n_rows, n_steps), of quantiles that were learned."""
        return ends_of_quantiles(self._quantiles(state, features), state.facts["shares"], levels)

    def write_graph(self, state: ForecasterState, asked: Asked) -> Told:
        """The trees as one operator for each share, and what they correct."""
        graph, ground, models = asked.graph, _Ground.from_facts(state.facts), _models(state)
        steps, count = sum(map(len, ground.groups)), len(ground.groups)
        scores = [ground.write(asked, models[at : at + count]) for at in range(0, len(models), count)]
        middle = len(scores) // 2
        if self._positive:
            known = graph.node("Greater", asked.level, asked.number(0.0))
            means = graph.node("Where", known, asked.level, asked.number(1.0))
            return {"mean": (graph.node("Mul", graph.node("Exp", scores[middle]), means), ("rows", steps))}
        if ground.start is not None:
            begun = graph.gathered(asked.features, ground.start, 1)
            begun = graph.node("Where", graph.node("IsNaN", begun), asked.number(0.0), begun)
            scores = [graph.node("Add", each, begun) for each in scores]
        told: Told = {"mean": (asked.flat(scores[middle]), ("rows", steps))}
        if self.tells_ranges:
            for place in range(middle + 1, len(scores)):
                scores[place] = graph.node("Max", scores[place], scores[place - 1])
            for place in range(middle - 1, -1, -1):
                scores[place] = graph.node("Min", scores[place], scores[place + 1])
            apart = [graph.shaped(asked.flat(each), -1, steps, 1) for each in scores]
            told["quantiles"] = (graph.node("Concat", *apart, axis=2), ("rows", steps, len(scores)))
        return told

    def shares_in(self, state: ForecasterState, row: int, features: Floats, step: int) -> tuple[Floats, float] | None:
        """Exact attributions: trees are the same for all series."""
        return self.shares_of(state, features, step)

    def shares_of(self, state: ForecasterState, features: Floats, step: int) -> tuple[Floats, float] | None:
        """Exact attributions (Lundberg et al. 2020), and the value that trees correct; None where a loss has a link.

        What the number of the step adds counts as the average's.
        """
        if self._positive:
            return None
        ground = _Ground.from_facts(state.facts)
        group = next(place for place, each in enumerate(ground.groups) if step in each)
        middle = len(state.facts["shares"]) // 2 * len(ground.groups)
        model, one = _models(state)[middle + group], features[None]
        raw = model.bins.part(0, len(ground.columns)).apply(one[:, ground.columns])
        beside = ground.beside(one, np.zeros(1, dtype=np.int64), np.full(1, step))
        shares, average = attribute(model, bins_of(raw, model.bins, beside, np.zeros(1, dtype=np.int64)))
        places = [*ground.columns.tolist(), *([-1] if len(ground.groups[0]) > 1 else []),
                  *(int(at[step]) for at in ground.aligned.values())]  # fmt: skip
        out = np.zeros(len(features))
        for place, share in zip(places, shares[0].tolist(), strict=True):
            if place < 0:
                average += share
            else:
                out[place] += share
        if ground.start is not None:
            out[ground.start[step]] += np.nan_to_num(features[ground.start[step]])
        return out, average

    def training(self, state: ForecasterState) -> Training:
        """How the training of the first step went: losses by tree, and the tree kept."""
        facts = state.facts
        return Training(tuple(facts["loss"]), tuple(facts["validation_loss"]), int(facts["kept"][0]), facts["windows"])

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Share of what splits gained by feature, the first step's or all steps' together."""
        gains = state.arrays["gains"]
        names = [*state.facts["names"], *_names_beside(state.facts)]
        order = np.argsort(-gains, kind="stable")
        return {names[at]: float(gains[at] / max(gains.sum(), 1e-300)) for at in order if gains[at] > 0}

    def summary(self, state: ForecasterState, key: str) -> str:
        """What was learned of one series, in one sentence."""
        facts, shares = state.facts, self.parameters(state, key)
        apart = len(facts["groups"]) > 1
        kept = f"{min(facts['kept'])} … {max(facts['kept'])} trees a step" if apart else f"{facts['kept'][0]} trees"
        steps = sum(map(len, facts["groups"]))
        way = f"direct for {steps} steps" if steps > 1 else "one step, fed back"
        most = ", ".join(f"{name} {100 * share:.0f} %" for name, share in list(shares.items())[:3])
        return (
            f"{kept} of {self.leaves} leaves, {way}; {facts['train']:,} windows learned, {facts['held_out']:,} later "
            f"ones held out; most of what they gain: {most or 'nothing'}."
        )


@dataclass(frozen=True)
class _Ground:
    """From which columns of a table steps are learned: `columns` as they are, and for each season of `aligned` the
    column that lies a season before each step; `groups` of steps have trees together, with their number beside;
    `start` (n_steps,) are columns that trees correct."""

    columns: Ints
    aligned: Mapping[int, Ints]
    groups: tuple[tuple[int, ...], ...]
    start: Ints | None

    @classmethod
    def of(
        cls, table: Table, known: Panel, steps: str, own_plan: bool, plain: bool, rows: NDArray[np.bool_]
    ) -> "_Ground":
        plan, count = table.plan, table.targets.shape[1]
        assert isinstance(plan, WindowPlan)
        kept = set(plan.lags) if own_plan else set(default_plan(known).lags)
        columns = np.array([at for at in range(len(table.names)) if at >= len(plan.lags) or plan.lags[at] in kept])
        some = some_of(rows)
        start = None if plain else nearest_columns(plan, known, table.features[some], table.targets[some])
        aligned, work = aligned_columns(plan, known), len(table) * len(columns) * count
        if count == 1 or steps == "apart" or (steps == "auto" and work <= _APART_UP_TO):
            return cls(columns, aligned, tuple((step,) for step in range(count)), start)
        return cls(columns, aligned, (tuple(range(count)),), start)

    @classmethod
    def from_facts(cls, facts: Mapping[str, Any]) -> "_Ground":
        aligned = {int(season): np.array(at) for season, at in facts["aligned"].items()}
        start = None if facts["start"] is None else np.array(facts["start"])
        return cls(np.array(facts["columns"]), aligned, tuple(map(tuple, facts["groups"])), start)

    def write(self, asked: Asked, models: Sequence[Boosted]) -> str:
        """Scores (n_rows, n_steps) of the models of all groups, by operators."""
        graph, steps, columns = asked.graph, sum(map(len, self.groups)), self.columns.tolist()
        if len(self.groups) == steps:
            beside = [[int(at[step]) for at in self.aligned.values()] for (step,) in self.groups]
            pairs = [(model, [*columns, *more]) for model, more in zip(models, beside, strict=True)]
            return write_trees(graph, pairs, asked.features, asked.width)
        count = graph.cut(graph.node("Shape", asked.features), 0, 1, 0)
        shape = graph.node("Concat", count, graph.constant([steps, 1], np.int64), axis=0)
        rows = graph.shaped(graph.gathered(asked.features, columns, 1), -1, 1, len(columns))
        parts = [
            graph.node("Add", rows, asked.number(np.zeros((1, steps, 1)))),
            graph.node("Expand", asked.number(np.arange(steps)[None, :, None]), shape),
        ]
        parts += [graph.shaped(graph.gathered(asked.features, at, 1), -1, steps, 1) for at in self.aligned.values()]
        width = len(columns) + 1 + len(self.aligned)
        each = graph.shaped(graph.node("Concat", *parts, axis=2), -1, width)
        return graph.shaped(write_trees(graph, [(models[0], range(width))], each, width), -1, steps)

    def starts(self, features: Floats) -> Floats | float:
        """What trees add to: (n_rows, n_steps) values of a season before or the last; 0 where a missing one is."""
        return 0.0 if self.start is None else np.nan_to_num(features[:, self.start])

    def beside(self, features: Floats, rows: Ints, steps: Ints) -> Floats:
        """What stands beside the columns of pairs of a row and a step: the step, and values of seasons before."""
        parts = [features[rows, at[steps]] for at in self.aligned.values()]
        if len(self.groups[0]) > 1:
            parts.insert(0, steps.astype(float))
        return np.column_stack(parts).astype(float) if parts else np.empty((len(rows), 0))


def bins_of(raw: Binned, bins: Bins, beside: Floats, rows: Ints) -> Binned:
    """Bins of pairs: those of their rows (n_columns, n_rows), and of what stands beside them (n_pairs, n_beside)."""
    mine = raw if len(rows) == raw.shape[1] and beside.shape[1] == 0 else raw[:, rows]
    return np.concatenate([mine, bins.part(len(raw), beside.shape[1]).apply(beside)])


def _names_beside(facts: Mapping[str, Any]) -> list[str]:
    step = ["step ahead"] if len(facts["groups"][0]) > 1 else []
    return step + [f"{season} before the target" for season in facts["aligned"]]


def _pairs(rows: NDArray[np.bool_], steps: Sequence[int], rng: np.random.Generator) -> tuple[Ints, Ints]:
    """Rows and their steps: every one, or of each row as many steps as there is room for, drawn."""
    places = np.flatnonzero(rows)
    each = max(1, min(len(steps), _PAIRS // max(len(places), 1)))
    if each == len(steps):
        return np.repeat(places, each), np.tile(np.array(steps), len(places))
    drawn = rng.permuted(np.tile(np.array(steps), (len(places), 1)), axis=1)[:, :each]
    return np.repeat(places, each), drawn.ravel()


def _stored(models: Sequence[Boosted]) -> tuple[dict[str, NDArray[Any]], dict[str, Any]]:
    """Arrays and facts of models."""
    parts = [model.arrays() for model in models]
    arrays: dict[str, NDArray[Any]] = {"gains": models[0].gains()}
    arrays |= {f"{place}_{name}": each for place, part in enumerate(parts) for name, each in part.items()}
    facts = {
        "bins": [model.bins.document() for model in models], "base": [model.base for model in models],
        "kept": [len(model.trees) for model in models], "loss": list(models[0].losses),
        "validation_loss": list(models[0].later_losses),
    }  # fmt: skip
    return arrays, facts


def _models(state: ForecasterState) -> list[Boosted]:
    found = []
    for place, (bins, base) in enumerate(zip(state.facts["bins"], state.facts["base"], strict=True)):
        mine = {name.partition("_")[2]: each for name, each in state.arrays.items() if name.startswith(f"{place}_")}
        found.append(Boosted.from_arrays(Bins.from_document(bins), base, mine))
    return found
