"""Flatten: the chain's lanes as of the cutoff, from raw to flat, and what they say."""

import numpy as np
from flask_openapi3 import APIBlueprint
from werkzeug.wrappers import Response

from proteron.api import flatten_shapes as rooms
from proteron.api import shapes
from proteron.api.lines import line
from proteron.api.profile_views import test_view
from proteron.api.services import answer, chain_of, series_index, services
from proteron.core import profile
from proteron.core.errors import ProteronError
from proteron.core.flatten import Chain, FittedChain, StageState
from proteron.core.flatten.registry import AnyStage
from proteron.core.flatten.stage import AdditiveStage
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints

blueprint = APIBlueprint("flatten", __name__, url_prefix="/api/v1")
_SERIES = "/datasets/<int:dataset_id>/series/<int:series>/flatten"
_AHEAD = 2000
_LEVELS = ("trend", "level")


@blueprint.post(_SERIES, responses={200: rooms.FlattenView})
def flatten(path: shapes.SeriesPath, body: rooms.FlattenBody) -> Response:
    """Every stage's output and parts over a span, learned from what is known at `until` only."""
    with services().computing():
        panel, fitted = _fit(path, body)
        return answer(_View(panel, fitted, body).view())


@blueprint.post(_SERIES + "/facts", responses={200: rooms.FlatFactsView})
def flatten_facts(path: shapes.SeriesPath, body: rooms.FlattenBody) -> Response:
    """Tests before and after every stage; correlograms and spreads of blocks before and after the chain."""
    with services().computing():
        panel, fitted = _fit(path, body)
        known = int(panel.known_lengths(body.until)[0])
        lanes = [lane[:known] for lane in fitted.lanes(panel, 0)]
        season = panel.axis.step.season
        tests = []
        for place, lane in zip([-1, *_places(fitted.chain)], lanes, strict=True):
            found = profile.run_tests(lane[-profile.TESTED :], season)
            views = [test_view(test) for test in found.tests]
            tests.append(rooms.StageTests(place=place, tests=views, verdict=found.verdict))
        lags = min(3 * season if season > 1 else 30, 100, max(known - 1, 1))
        block = profile.block_of(season)
        return answer(
            rooms.FlatFactsView(
                before=tests[0], stages=tests[1:], acf_before=_correlations(lanes[0], lags),
                acf_after=_correlations(lanes[-1], lags), bound=1.96 / np.sqrt(max(known, 1)), block=block,
                spreads_before=_block_spreads(lanes[0], block), spreads_after=_block_spreads(lanes[-1], block),
            )
        )  # fmt: skip


def _fit(path: shapes.SeriesPath, body: rooms.FlattenBody) -> tuple[Panel, FittedChain]:
    """The series alone and the chain as of the cutoff; stages that are shared learn from the whole panel."""
    panel = services().panel(path.dataset_id)
    index = series_index(panel, path.series)
    chain, until = chain_of(body.chain), body.until
    one = panel.select([index])
    if any(stage.shared for stage in chain.active):
        return one, services().chain(path.dataset_id, chain, until)
    return one, chain.fit(one, until)


def _places(chain: Chain) -> list[int]:
    """Places in the chain of the stages that are on."""
    return [place for place, stage in enumerate(chain.stages) if not stage.off]


def _correlations(values: Floats, lags: int) -> list[float | None]:
    try:
        return profile.acf(values, lags).tolist()
    except ProteronError:
        return []


def _block_spreads(values: Floats, block: int) -> list[float | None]:
    """Standard deviations of consecutive blocks in units of the series' own, the last 60 of them."""
    found = profile.spread_by_level(values, block).spread[-60:]
    overall = float(np.nanstd(values)) if np.isfinite(values).any() else 0.0
    return (found / overall).tolist() if overall > 0 else found.tolist()


class _View:
    """The answer for one series: lanes over a span, in flat or original units."""

    def __init__(self, panel: Panel, fitted: FittedChain, body: rooms.FlattenBody) -> None:
        self.panel, self.fitted, self.body = panel, fitted, body
        self.first = int(panel.starts[0])
        self.states = fitted.states_of(panel.keys[0])
        self.lanes = fitted.lanes(panel, 0)
        self.known = int(panel.known_lengths(body.until)[0])
        self.positions = panel.positions(0)

    def line(self, values: Floats) -> shapes.Line:
        body = self.body
        return line(self.panel.axis, self.first, values, body.start, body.stop, body.width)

    def view(self) -> rooms.FlattenView:
        steps = zip(_places(self.fitted.chain), self.fitted.stages, self.states, strict=True)
        stages = [self._stage(number, *step) for number, step in enumerate(steps)]
        middle, low, high = self._projection()
        return rooms.FlattenView(
            observed=self.line(self.panel.series(0)), stages=stages, projection=self._ahead_line(middle),
            projection_low=low.tolist(), projection_high=high.tolist(), round_trip=self._round_trip(),
        )  # fmt: skip

    def _stage(self, number: int, place: int, stage: AnyStage, state: StageState) -> rooms.StageView:
        entered, left = self.lanes[number], self.lanes[number + 1]
        parts = self._parts(stage, state, number)
        calendar = self.fitted.calendar
        figures = [rooms.FigureView(**vars(figure)) for figure in stage.figures(state, calendar)]
        twin = stage.twin() if self.body.twin == place else None
        twin_parts: list[rooms.PartView] = []
        if twin is not None:
            known, at = entered[: self.known], self.positions[: self.known]
            learned = twin.fit(known, at, calendar)
            twin_parts = self._parts(twin, learned, number)
        return rooms.StageView(
            place=place, kind=stage.kind, title=stage.title, group=stage.group, output=self.line(left), parts=parts,
            twin=twin_parts, twin_name=None if twin is None else _manner(twin), facts=stage.facts(state),
            figures=figures, notes=list(state.notes),
            variance_share=_share(entered[: self.known], left[: self.known]) if parts else None,
        )  # fmt: skip

    def _parts(self, stage: AnyStage, state: StageState, number: int) -> list[rooms.PartView]:
        """What a stage takes out, part by part.

        In original units, behind stages that are no plain subtraction: a trend as the level it stands for,
        a season as what it changes about that level (without a trend, about the middle of the known values).
        """
        parts = stage.parts(state, self.positions, self.fitted.calendar)
        plain = all(isinstance(each, AdditiveStage) for each in self.fitted.stages[:number])
        if self.body.units == "original" and not plain:
            known = self.lanes[number][: self.known]
            middle = np.full(len(self.positions), np.median(known[np.isfinite(known)]))
            level = next((parts[name] for name in _LEVELS if name in parts), middle)
            base = self._undone(level, number)
            parts = {
                name: base if name in _LEVELS else self._undone(level + part, number) - base
                for name, part in parts.items()
            }
        return [rooms.PartView(name=name, line=self.line(part)) for name, part in parts.items()]

    def _undone(self, values: Floats, number: int) -> Floats:
        """Back through the first `number` stages only."""
        steps = list(zip(self.fitted.stages, self.states, strict=True))[:number]
        for stage, state in reversed(steps):
            values = stage.undo(state, values, self.positions, self.fitted.calendar)
        return values

    def _projection(self) -> tuple[Floats, Floats, Floats]:
        """What the chain alone says after the cutoff, (n_ahead,) each: middle and ends of a range of 80 %.

        The flat quantiles of the last known points stand still, and each goes back through the chain.
        """
        ahead = int(np.clip((self.body.stop or self.panel.end) - self.body.until, 0, _AHEAD))
        flat = self.lanes[-1][: self.known]
        recent = flat[-profile.TESTED :]
        recent = recent[np.isfinite(recent)]
        if not len(recent) or not ahead or not self.fitted.stages:
            return np.zeros(0), np.zeros(0), np.zeros(0)
        levels = np.quantile(recent, (0.5, 0.1, 0.9))
        still = np.repeat(levels[:, None, None], ahead, axis=2)
        origins: Ints = np.array([self.first + self.known], dtype=np.int64)
        back = self.fitted.undo_ahead(self.panel.keys[0], still, origins, self.first, self.lanes)[:, 0]
        return back[0], back[1], back[2]

    def _ahead_line(self, values: Floats) -> shapes.Line:
        start = self.first + self.known
        return line(self.panel.axis, start, values, start, start + len(values), _AHEAD)

    def _round_trip(self) -> float | None:
        """Largest relative error of undo after apply over every point."""
        if not self.fitted.stages:
            return 0.0
        back, values = self._undone(self.lanes[-1], len(self.states)), self.panel.series(0)
        # Against the size of the series: a value of nearly nothing has no digits of its own.
        size = np.maximum(np.abs(values), 1e-6 * (np.nanmax(np.abs(values)) if np.isfinite(values).any() else 1.0))
        errors = np.abs(back - values) / size
        return float(np.nanmax(errors)) if np.isfinite(errors).any() else None


def _manner(stage: AnyStage) -> str:
    """How a stage that can be plain or robust is."""
    for name, words in (("robust", {False: "plain", True: "robust"}), ("method", {}), ("statistic", {})):
        if name in type(stage).model_fields:
            value = getattr(stage, name)
            return words.get(value, str(value).replace("_", " "))
    return ""


def _share(entered: Floats, left: Floats) -> float | None:
    """Share of the variance of known points that a stage took out."""
    both = np.isfinite(entered) & np.isfinite(left)
    total = entered[both].var() if both.any() else 0.0
    return float(1 - left[both].var() / total) if total > 0 else None
