"""What all networks share: windows in, the next steps out, trained from several seeds, averaged."""

import os
from abc import abstractmethod
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field
from scipy import special

from proteron.core.errors import InputError, SettingsError
from proteron.core.forecasters.aligned import nearest_line, some_of, with_aligned_lags
from proteron.core.forecasters.exchange.graph import Asked, Told
from proteron.core.forecasters.exchange.repeats_graph import ToldByRepeats
from proteron.core.forecasters.forecaster import DrawnLayer, ForecasterState, Progress, Training, Work
from proteron.core.forecasters.learned_ranges import ends_of, ends_of_quantiles, shares_of_levels, widened
from proteron.core.forecasters.networks.eye import Eye, pieces_of, units_of
from proteron.core.forecasters.networks.layout import Layout
from proteron.core.forecasters.networks.straight import StraightLine, level_start, straight_start, worth_of
from proteron.core.forecasters.neural.attribution import integrated
from proteron.core.forecasters.neural.losses import (
    INVERSE_SOFTPLUS_OF_ONE,
    counted_ends,
    quantiles_of,
    softplus_of,
    spreads_of,
    width_of,
)  # fmt: skip
from proteron.core.forecasters.neural.network import Network
from proteron.core.forecasters.neural.rows import Rows
from proteron.core.forecasters.neural.sight import sights
from proteron.core.forecasters.neural.training import Optimiser, Recipe, Schedule, Trained, answers, train
from proteron.core.forecasters.pictures import Curve, Picture
from proteron.core.forecasters.window_forecaster import (
    Scaling,
    WindowForecaster,
    categories_of,
    chronological_split,
    latest_lags,
)
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints
from proteron.core.windows import Table, WindowPlan, default_plan, usual_length

_MOST_ROWS = 200_000  # windows written out for a training
_FEWEST_LATEST = 3  # lags that tell a window's level and spread
_DRAWN = 6  # repeats that are drawn
_FEWEST_HELD_OUT = 2000  # windows that an epoch is judged by, where there are so many
ADVANCED: dict[str, Any] = {"advanced": True}


class LearnedNetwork(WindowForecaster):
    """A network on windows of series scaled by their own known spread, one for the panel.

    The chronologically last windows are held out for early stopping, and the weights of the best epoch on them are
    kept. Of several repeats each has a seed of its own, and the forecast is their mean or median.
    """

    can: ClassVar[tuple[str, ...]] = ("seasons", "covariates")  # what it says beyond what was there is not learned
    version: ClassVar[int] = 3
    form: ClassVar[int] = 3
    panel_wide: ClassVar[bool] = True
    reads_short: ClassVar[bool] = True
    has_graph: ClassVar[bool] = True
    cost: ClassVar[float] = 150.0
    reads_window: ClassVar[bool] = True  # the latest lags one after the other, in time
    loss: Literal["squared", "absolute", "huber", "quantiles", "gaussian", "negative_binomial"] = Field(
        "huber", title="Loss", description="The last three learn ranges too; negative binomial: for counts."
    )
    repeats: int = Field(1, ge=1, le=50, title="Repeats", description="Trainings, each from a seed of its own.")
    average: Literal["mean", "median"] = Field("mean", title="Average of repeats")
    widen: bool = Field(
        True, title="Repeats widen ranges", description="Ranges that are learned grow with how far repeats lie apart.",
        json_schema_extra=ADVANCED,
    )  # fmt: skip
    level: Literal["auto", "series", "window"] = Field(
        "auto",
        title="Centred by",
        description="Series or window, which follows a level that moves; auto: by what a line errs.",
    )
    learning_rate: float = Field(
        3e-3, gt=0, le=1, title="Learning rate",
        json_schema_extra={"search": {"low": 5e-4, "high": 1e-2, "log": True}},
    )  # fmt: skip
    weight_decay: float = Field(1e-4, ge=0, title="Weight decay", json_schema_extra=ADVANCED)
    batch: int = Field(128, ge=1, title="Batch", description="Windows per step.", json_schema_extra=ADVANCED)
    epochs: int = Field(40, ge=1, le=10_000, title="Epochs at most")
    patience: int = Field(
        6, ge=1, title="Patience", description="Epochs without a better validation loss.", json_schema_extra=ADVANCED
    )
    windows_per_epoch: int = Field(
        6_000,
        ge=1,
        title="Windows per epoch",
        description="Drawn anew each epoch; no more are held out.",
        json_schema_extra=ADVANCED,
    )
    validation: float = Field(
        0.15, gt=0, lt=0.9, title="Validation share", description="The chronologically last part of what is known.",
        json_schema_extra=ADVANCED,
    )  # fmt: skip
    optimiser: Optimiser = Field("adam", title="Optimiser", json_schema_extra=ADVANCED)
    schedule: Schedule = Field("cosine", title="Course of the learning rate", json_schema_extra=ADVANCED)
    warm_up: int = Field(0, ge=0, title="Epochs of warming up", json_schema_extra=ADVANCED)
    clip: float = Field(1.0, ge=0, title="Longest gradient", description="0: any.", json_schema_extra=ADVANCED)
    embedding: int = Field(
        4, ge=0, le=64, title="Numbers per category",
        description="Learned of every category, or slot of the calendar, that the plan tells as a number; 0: none.",
        json_schema_extra=ADVANCED,
    )  # fmt: skip
    precision: Literal["float32", "float64"] = Field("float32", title="Precision", json_schema_extra=ADVANCED)

    @abstractmethod
    def build(self, layout: Layout) -> Network:
        """The network, its output (n_outputs,)."""

    @property
    def most_rows(self) -> int | None:
        """Rows that all its learning can look at."""
        return min(self.epochs * self.windows_per_epoch, _MOST_ROWS)

    def window_of(self, known: Panel) -> int:
        """Points that are read one after the other where no plan is given: two seasons, within what is known."""
        usual = usual_length(known)
        return int(np.clip(2 * known.axis.step.season, 4, min(48, max(usual // 6, 4))))

    def resolved_plan(self, known: Panel, horizon: int | None) -> WindowPlan:
        """The plan with its horizon settled; one that is not given also has the lags a season before every step."""
        plan = super().resolved_plan(known, horizon)
        if self.plan is None:
            base = default_plan(known)
            lags = set(range(1, self.window_of(known) + 1)) | set(base.lags)
            plan = plan.model_copy(update={"lags": tuple(sorted(lags))})
            return plan if plan.recursive else with_aligned_lags(plan, known)
        if self.reads_window and latest_lags(plan) < 2:
            raise SettingsError(
                f"{self.title} reads the latest points one after the other: lags 1, 2, … must be in the plan.",
                field="plan",
            )
        return plan

    def learn_rows(self, table: Table, known: Panel, work: Work) -> ForecasterState:
        """Learn from rows of scaled values."""
        train_rows, held_out = chronological_split(table, self.validation, self.title)
        looked_at = some_of(held_out, max(self.windows_per_epoch, _FEWEST_HELD_OUT))
        held_out = np.isin(np.arange(len(held_out)), looked_at)
        assert isinstance(table.plan, WindowPlan)
        order, window = self._order(table.plan, len(table.names)), self._window(table.plan)
        some = some_of(train_rows)
        nearest = nearest_line(table.plan, known, table.features[some], table.targets[some])
        base, worth = nearest[order], worth_of(table, held_out, nearest)
        levels = ("series", "window") if self.level == "auto" else (self.level,)
        if self._counts or (self.level == "auto" and latest_lags(table.plan) < _FEWEST_LATEST):
            levels = ("series",)
        scaling = Scaling.learn(known)
        numbered = categories_of(table.plan, known) if self.embedding else {}
        eyes = [Eye.of(table, order, window, level, train_rows, numbered) for level in levels]
        eye, learned, later, line = min(
            (self._begun(table, scaling, eye, (train_rows, held_out), base, worth) for eye in eyes),
            key=lambda each: each[3].error,
        )
        shares = shares_of_levels(work.levels) if self.loss == "quantiles" else (1.0,)
        sizes = eye.window, len(base) - eye.window, base.shape[1]
        categories = self._categories(table.plan, known, order)
        layout = Layout(*sizes, line.slopes, line.biases, *self._says(shares), categories, self.embedding)
        done = self._trained(layout, learned, later, work, shares)
        parameters = np.array([each.parameters for each in done])
        arrays = {"parameters": parameters, "centre": eye.centre, "spread_of_features": eye.spread}
        best = [each.best for each in done]
        facts = {
            "form": self.form, "order": order.tolist(), "latest": eye.latest, "window": eye.window,
            "level": eye.level, "steps": layout.steps,
            "categories": [list(each) for each in categories], "shares": list(shares),
            "names": list(table.names), "weights": int(parameters.shape[1]),
            "shown": int(np.argsort(best, kind="stable")[(len(done) - 1) // 2]),
            "losses": [list(each.losses) for each in done], "kept": [each.kept for each in done], "best": best,
            "validation_losses": [list(each.later_losses) for each in done],
            "train": int(train_rows.sum()), "held_out": int(held_out.sum()),
        }  # fmt: skip
        return ForecasterState(known.keys, arrays, facts)

    def _window(self, plan: WindowPlan) -> int:
        return latest_lags(plan) if self.reads_window else 0

    def _order(self, plan: WindowPlan, width: int) -> Ints:
        """Columns of a table as a network reads them: the latest lags from the oldest on, then the others."""
        window = self._window(plan)
        return np.array([*range(window - 1, -1, -1), *range(window, width)])

    def _begun(
        self,
        table: Table,
        scaling: Scaling,
        eye: Eye,
        parts: tuple[NDArray[np.bool_], NDArray[np.bool_]],
        base: Floats,
        worth: Floats,
    ) -> tuple[Eye, Rows, Rows, StraightLine]:
        """Rows to learn from and held out as an eye sees them, and the line that is begun with."""
        (learned, _), (later, scales) = (self._rows(table, scaling, eye, rows) for rows in parts)
        if self._counts:
            return eye, learned, later, level_start(base.shape[0], base.shape[1], INVERSE_SOFTPLUS_OF_ONE)
        return eye, learned, later, straight_start(learned, later, scales * worth, base)

    def _categories(self, plan: WindowPlan, known: Panel, order: Ints) -> tuple[tuple[int, int], ...]:
        """Inputs that number categories or slots of the calendar, and how many there are of each."""
        if not self.embedding:
            return ()
        place_of = {int(column): place for place, column in enumerate(order)}
        return tuple((place_of[column], count) for column, count in categories_of(plan, known).items())

    def _says(self, shares: Sequence[float]) -> tuple[int, int]:
        """How many numbers are told of a step, and which is the forecast."""
        count = width_of(self.loss, len(shares))
        return count, count // 2 if self.loss == "quantiles" else 0

    @property
    def _counts(self) -> bool:
        """Whether a mean and a dispersion of counts are told, in means of the row's series."""
        return self.loss == "negative_binomial"

    def _rows(self, table: Table, scaling: Scaling, eye: Eye, rows: NDArray[np.bool_]) -> tuple[Rows, Floats]:
        """Chosen rows as an eye sees them, and the scale (n_rows,) of each."""
        dtype = np.dtype(self.precision)
        units, many = np.ones(int(rows.sum())), self._counts
        inputs = np.empty((int(rows.sum()), len(eye.order)), dtype=dtype)
        targets, scales = np.empty((len(inputs), table.targets.shape[1]), dtype=dtype), np.empty(len(inputs))
        for place, chosen in pieces_of(rows):
            seen, offset, scale = eye.see(table.features[chosen])
            inputs[place], targets[place] = seen, (table.targets[chosen] - offset) / scale
            scales[place] = scale[:, 0]
            if many:
                level, spread = (each[table.series[chosen]] for each in (scaling.level, scaling.spread))
                units[place] = _unit(level)
                targets[place] = (table.targets[chosen] * spread[:, None] + level[:, None]) / units[place][:, None]
        weights = table.weights[rows] if table.weights.any() else np.ones(len(inputs))
        if many and targets.min(initial=0.0) < -1e-6:
            raise InputError(f"{self.title}: with the loss “{self.loss}” no value may be negative.", field="loss")
        return Rows(inputs, np.maximum(targets, 0) if many else targets,
                    weights if weights.any() else np.ones(len(inputs)), units), scales  # fmt: skip

    def _trained(
        self, layout: Layout, learned: Rows, later: Rows, work: Work, shares: tuple[float, ...]
    ) -> list[Trained]:
        """Trainings from as many seeds, spread over the machine's cores; the same whatever their order."""
        seeds = [int(each.generate_state(1)[0]) for each in np.random.SeedSequence(work.seed).spawn(self.repeats)]
        recipe, told = replace(self.recipe, shares=shares), [0] * self.repeats
        dtype = np.dtype(self.precision).type

        def one(place: int) -> Trained:
            def tell(losses: Sequence[float], later_losses: Sequence[float]) -> None:
                work.go_on()
                told[place] = epoch = len(losses)
                share = sum(told) / (self.repeats * self.epochs)
                which = f"repeat {place + 1}, " if self.repeats > 1 else ""
                about = f"{which}epoch {epoch}: {losses[-1]:.4g} learned, {later_losses[-1]:.4g} held out"
                work.report(Progress(share, about, tuple(losses), tuple(later_losses)))

            work.go_on()
            return train(self.build(layout), learned, later, recipe, seeds[place], dtype, tell)

        cores = min(self.repeats, os.cpu_count() or 1)
        if cores == 1:
            return [one(place) for place in range(self.repeats)]
        with ThreadPoolExecutor(cores) as pool:
            return list(pool.map(one, range(self.repeats)))

    @property
    def recipe(self) -> Recipe:
        """How each is trained."""
        return Recipe(
            self.loss, (1.0,), self.optimiser, self.learning_rate, self.weight_decay, self.clip, self.batch,
            self.epochs, self.windows_per_epoch, self.patience, self.schedule, self.warm_up,
        )  # fmt: skip

    def network_of(self, state: ForecasterState) -> Network:
        """The network that was trained."""
        facts = state.facts
        width = len(facts["names"])
        says = self._says(facts["shares"])
        line = np.zeros((width, facts["steps"])), np.zeros(facts["steps"])
        sizes = facts["window"], width - facts["window"], facts["steps"]
        categories = tuple((column, count) for column, count in facts["categories"])
        return self.build(Layout(*sizes, *line, *says, categories, self.embedding))

    def told_of(self, state: ForecasterState, features: Floats) -> tuple[Floats, Floats, Floats]:
        """What every repeat says of rows, (n_repeats, n_rows, n_steps, n_told), with offset and scale (n_rows, 1)."""
        seen, offset, scale = self._eye(state).see(features)
        network = self.network_of(state)
        told = [answers(network, each, seen.astype(each.dtype)) for each in state.arrays["parameters"]]
        shape = (len(told), len(features), state.facts["steps"], self._says(state.facts["shares"])[0])
        return np.array(told, dtype=np.float64).reshape(shape), offset, scale

    def answers_of(self, state: ForecasterState, features: Floats) -> Floats:
        """Scaled forecasts of every repeat, (n_repeats, n_rows, n_steps)."""
        told, offset, scale = self.told_of(state, features)
        said = told[..., self._says(state.facts["shares"])[1]]
        return softplus_of(said) if self._counts else said * scale + offset

    @property
    def tells_ranges(self) -> bool:
        """Whether it learned them."""
        return self.loss in ("quantiles", "gaussian", "negative_binomial")

    @property
    def learns_levels(self) -> bool:
        """Quantiles are those of the levels asked for."""
        return self.loss == "quantiles"

    def scaled_ends(
        self, state: ForecasterState, features: Floats, levels: Sequence[float], level: float, spread: float
    ) -> Floats:
        """Scaled ends of ranges (n_levels, 2, n_rows, n_steps): means over repeats of their quantiles, or those of a
        distribution with their mean, and the mean of their variances and that between them."""
        told, offset, scale = self.told_of(state, features)
        sides = [ends_of(each) for each in levels]
        if self._counts:
            return (counted_ends(told, float(_unit(np.array(level))), sides) - level) / spread
        if self.loss == "quantiles":
            values = quantiles_of(told.reshape(-1, told.shape[-1])).reshape(told.shape)
            ends = ends_of_quantiles(values.mean(axis=0), state.facts["shares"], levels)
            if self.widen:
                ends = widened(ends, values[..., told.shape[-1] // 2], sides)
            return ends * scale + offset
        variances = spreads_of(told[..., 1].ravel()).reshape(told.shape[:-1]) ** 2
        between = told[..., 0].var(axis=0) if self.widen else 0.0
        wide = np.sqrt(variances.mean(axis=0) + between)
        middle = told[..., 0].mean(axis=0)
        return (middle + special.ndtri(np.array(sides))[:, :, None, None] * wide) * scale + offset

    def write_graph(self, state: ForecasterState, asked: Asked) -> Told:
        """Every repeat's network, and the mean or median of what they say; quantiles, or the spread of a normal
        distribution, where they were learned."""
        steps, (says, middle) = state.facts["steps"], self._says(state.facts["shares"])
        seen, offset, scale = self._eye(state).write(asked)
        network, repeats = self.network_of(state), state.arrays["parameters"]
        told = ToldByRepeats.of(asked, network, repeats, seen, (steps, says), self.average == "median")
        return told.counts() if self._counts else told.values(middle, (offset, scale), self.loss)

    def shares_of(self, state: ForecasterState, features: Floats, step: int) -> tuple[Floats, float] | None:
        """Integrated gradients of the mean of all repeats in what is seen, in double precision, from an average window
        at the level and in the spread of this one; categories are put in before, one after the other."""
        if self._counts:
            return None
        eye, network = self._eye(state), self.network_of(state)
        seen, offset, scale = eye.see(features[None])
        says, middle = self._says(state.facts["shares"])
        place, end = step * says + middle, seen[0]
        repeats = state.arrays["parameters"].astype(np.float64)
        columns = [column for column, _ in state.facts["categories"]]
        found, base = integrated(network, repeats, end, columns, place)
        shares = np.empty(len(end))
        shares[eye.order] = found * scale[0, 0]
        return shares, base * float(scale[0, 0]) + float(offset[0, 0])

    def _eye(self, state: ForecasterState) -> Eye:
        facts, arrays = state.facts, state.arrays
        moves, scales = units_of(WindowPlan.parse(facts["plan"]))
        return Eye(np.array(facts["order"]), facts["latest"], facts["window"], moves, scales, arrays["centre"],
                    arrays["spread_of_features"], facts["level"])  # fmt: skip

    def predict(self, state: ForecasterState, features: Floats, series: Ints) -> Floats:
        """Scaled forecasts (n_rows, n_steps) for scaled features."""
        told = self.answers_of(state, features)
        combined: Floats = told.mean(axis=0) if self.average == "mean" else np.median(told, axis=0)
        if not self._counts:
            return combined
        level, spread = (state.arrays[name][series][:, None] for name in ("level", "spread"))
        return (combined * _unit(level) - level) / spread

    def training(self, state: ForecasterState) -> Training:
        """How the training of the middle repeat went: losses by epoch, and the epoch kept."""
        facts, shown = state.facts, state.facts["shown"]
        return Training(
            tuple(facts["losses"][shown]), tuple(facts["validation_losses"][shown]), int(facts["kept"][shown]) + 1,
            int(facts["windows"]),
            tuple(tuple(each) for place, each in enumerate(facts["validation_losses"]) if place != shown),
        )  # fmt: skip

    def drawn(self, state: ForecasterState) -> list[DrawnLayer]:
        """Every layer, with the lags that each of its steps sees."""
        plan = WindowPlan.parse(state.facts["plan"])
        lags = np.array([*plan.lags, *[0] * (len(plan.names) - len(plan.lags))])[np.array(state.facts["order"])]
        found = []
        for each in sights(self.network_of(state)):
            seen = [lags[first : last + 1] for first, last in each.spans]
            pairs = [(int(mine[mine > 0].max()), int(mine[mine > 0].min())) if mine.any() else None for mine in seen]
            beside = any((mine == 0).any() for mine in seen)
            found.append(DrawnLayer(each.title, each.steps, each.channels, each.weights, tuple(pairs), beside))
        return found

    def pictures(self, state: ForecasterState, panel: Panel, key: str) -> list[Picture]:
        """As of all on windows; and what every repeat forecasts from the end of `panel`."""
        return [*super().pictures(state, panel, key), *self._repeats_picture(state, panel, key)]

    def _repeats_picture(self, state: ForecasterState, panel: Panel, key: str) -> list[Picture]:
        repeats, row = len(state.facts["kept"]), state.row(key)
        features = self._latest(state, panel, key)
        if repeats < 2 or features is None:
            return []
        said = self.answers_of(state, features)[:, 0] * state.arrays["spread"][row] + state.arrays["level"][row]
        if self._counts:
            said = self.answers_of(state, features)[:, 0] * _unit(state.arrays["level"][row])
        ahead = np.array(WindowPlan.parse(state.facts["plan"]).horizon, dtype=float)
        apart = [Curve(f"repeat {place + 1}", ahead, each) for place, each in enumerate(said[:_DRAWN])]
        middle = said.mean(axis=0) if self.average == "mean" else np.median(said, axis=0)
        curves = (*apart, Curve(self.average, ahead, middle))
        return [Picture("What each repeat forecasts from the cutoff, flat units", "step ahead", curves)]

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        """How many weights, and the loss on held-out windows: of the middle repeat, and of the best and the worst."""
        best = sorted(state.facts["best"])
        told = {"weights": float(state.facts["weights"]), "validation_loss": best[(len(best) - 1) // 2]}
        if len(best) > 1:
            told |= {"validation_loss_lowest": best[0], "validation_loss_highest": best[-1]}
        return told

    def summary(self, state: ForecasterState, key: str) -> str:
        """What was learned of one series, in one sentence."""
        facts, shown = state.facts, state.facts["shown"]
        steps = facts["steps"]
        way = f"direct for {steps} steps" if steps > 1 else "one step, fed back"
        kept = f"epoch {facts['kept'][shown] + 1}" if facts["kept"][shown] >= 0 else "what it began as, no epoch"
        many = f"; the {self.average} of {len(facts['kept'])} repeats" if len(facts["kept"]) > 1 else ""
        return (
            f"{self.shape_in_words(state)} with {facts['weights']:,} weights, {way}; {facts['train']:,} windows "
            f"learned, {facts['held_out']:,} later ones held out; {kept} of {len(facts['losses'][shown])} kept{many}."
        )

    def shape_in_words(self, state: ForecasterState) -> str:
        """What the network is, in two or three words."""
        return "Network"


def _unit(level: Floats) -> Floats:
    """What counts of a series with such a mean are told in."""
    return np.where(level > 0, level, 1.0)
