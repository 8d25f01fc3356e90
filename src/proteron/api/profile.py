"""Profile: what a series, or a panel, is as of the cutoff."""

from collections.abc import Callable

import numpy as np
from flask_openapi3 import APIBlueprint
from scipy import special
from werkzeug.wrappers import Response

from proteron.api import profile_shapes as rooms
from proteron.api import shapes
from proteron.api.lines import epochs, line, spark
from proteron.api.profile_views import cycle_lines, section, slot_bars, test_view
from proteron.api.services import answer, series_index, services
from proteron.core import profile
from proteron.core.errors import ProteronError, SettingsError
from proteron.core.flatten import STAGES, Calendar
from proteron.core.flatten.decomposition import decompose
from proteron.core.flatten.seasons import season_name
from proteron.core.panel import FILLED, Floats, Panel
from proteron.core.profile.strengths import strengths_of
from proteron.core.windows import rolling_moments
from proteron.services import profiles

blueprint = APIBlueprint("profile", __name__, url_prefix="/api/v1")
_SERIES = "/datasets/<int:dataset_id>/series/<int:series>/profile"
_STAGE_TITLES = {stage.model_fields["kind"].default: stage.title for stage in STAGES}


@blueprint.post(_SERIES, responses={200: rooms.ProfileView})
def series_profile(path: shapes.SeriesPath, body: rooms.ProfileBody) -> Response:
    """Facts, strengths, all tests with a joint verdict, and stages worth adding."""
    with section(path, body) as (panel, values):
        calendar = Calendar(panel.axis)
        season = panel.axis.step.season
        recent = values[-profile.TESTED :]
        known = values[np.isfinite(values)]
        tests = profile.run_tests(recent, season)
        found = profile.Strengths(np.nan, {})
        if len(known) >= 8:
            found = strengths_of(values, decompose(values, panel.axis.step.seasons))
        spread = profile.spread_by_level(values, profile.block_of(season))
        suggestions = profile.suggest(values, tests, found, spread, season)
        whole = len(known) > 0
        return answer(
            rooms.ProfileView(
                known=len(known),
                missing=len(values) - len(known),
                filled=int(((panel.marks & FILLED) > 0).sum()),
                zeros=float((known == 0).mean()) if whole else None,
                mean=float(known.mean()) if whole else None,
                spread=float(known.std()) if whole else None,
                lowest=float(known.min()) if whole else None,
                highest=float(known.max()) if whole else None,
                trend=found.trend,
                seasons=[
                    rooms.SeasonStrength(period=period, name=season_name(period, calendar), strength=strength)
                    for period, strength in found.seasons.items()
                ],
                entropy=profile.spectral_entropy(recent),
                demand=profile.intermittency(values)[0],
                tests=[test_view(test) for test in tests.tests],
                refused=tests.refused,
                verdict=tests.verdict,
                tested=min(len(values), profile.TESTED),
                suggestions=[
                    rooms.SuggestionView(why=each.why, title=_STAGE_TITLES[each.stage["kind"]], stage=each.stage)
                    for each in suggestions
                ],
            )
        )


@blueprint.post(_SERIES + "/break", responses={200: rooms.TestView})
def break_at(path: shapes.SeriesPath, body: rooms.BreakBody) -> Response:
    """Whether the line changes at a given point (Chow)."""
    with section(path, body) as (panel, values):
        return answer(test_view(profile.chow(values, body.at - int(panel.starts[0]))))


@blueprint.post(_SERIES + "/level", responses={200: rooms.LevelView})
def level(path: shapes.SeriesPath, body: rooms.LevelBody) -> Response:
    """Rolling mean and standard deviation over a window."""
    with section(path, body) as (panel, values):
        step = panel.axis.step
        seasons = [round(length) for length in step.seasons if 2 * length <= len(values)]
        usual = seasons[1] if len(seasons) > 1 else 2 * step.season
        window = max(2, min(body.window or usual, len(values)))
        means, squares = rolling_moments(np.ascontiguousarray(values), np.array([0, len(values)]), window)
        spread = np.sqrt(squares / (window - 1))
        first = int(panel.starts[0])
        begin = min(max((body.start or 0) - first, 0), len(values))
        end = max(begin, min((panel.end if body.stop is None else body.stop) - first, len(values)))
        pick = np.unique(np.linspace(begin, max(end - 1, begin), 800).astype(int)) if end > begin else np.arange(0)
        return answer(
            rooms.LevelView(
                window=window,
                observed=line(panel.axis, first, values, body.start, body.stop, 1200),
                level=shapes.Line(times=epochs(panel.axis, first + pick), values=means[pick].tolist(), exact=False),
                low=(means - spread)[pick].tolist(),
                high=(means + spread)[pick].tolist(),
            )
        )


@blueprint.post(_SERIES + "/cycles", responses={200: rooms.CyclesView})
def cycles(path: shapes.SeriesPath, body: rooms.CyclesBody) -> Response:
    """One line per cycle by phase, and bars by calendar slot."""
    with section(path, body) as (panel, values):
        seasons = [round(length) for length in panel.axis.step.seasons]
        choices = {season_name(period, Calendar(panel.axis)): period for period in seasons if period <= len(values)}
        period = body.period or next(iter(choices.values()), 12)
        phases, lines, cut = cycle_lines(panel, values, period)
        return answer(
            rooms.CyclesView(
                period=period, name=season_name(period, Calendar(panel.axis)), choices=choices, phases=phases,
                lines=lines, cut=cut, slots=slot_bars(panel, values),
            )
        )  # fmt: skip


@blueprint.post(_SERIES + "/memory", responses={200: rooms.MemoryView})
def memory(path: shapes.SeriesPath, body: rooms.ProfileBody) -> Response:
    """Correlograms, periodogram and candidate periods."""
    with section(path, body) as (panel, values):
        season = panel.axis.step.season
        lags = min(max(3 * season, 40), 200, max(len(values) - 1, 1))
        known = int(np.isfinite(values).sum())
        correlations = _or_nothing(lambda: profile.acf(values, lags))
        recent = values[-40_000:]
        spectrum = _or_nothing(lambda: profile.periodogram(recent).power)
        periods, power = _thinned(recent) if len(spectrum) else (np.zeros(0), np.zeros(0))
        calendar = Calendar(panel.axis)
        found = profile.candidate_periods(recent, expected=panel.axis.step.seasons)
        return answer(
            rooms.MemoryView(
                acf=correlations.tolist(),
                pacf=_or_nothing(lambda: profile.pacf(values[-profile.TESTED :], lags)).tolist(),
                bound=1.96 / np.sqrt(max(known, 1)),
                bartlett=profile.bartlett_bounds(correlations, known).tolist() if len(correlations) else [],
                season=season,
                known=known,
                spectrum_period=periods.tolist(),
                spectrum_power=power.tolist(),
                candidates=[rooms.PeriodView(name=season_name(each.period, calendar), **vars(each)) for each in found],
            )
        )


def _or_nothing(compute: Callable[[], Floats]) -> Floats:
    try:
        return compute()
    except ProteronError:
        return np.zeros(0)


def _thinned(values: Floats, most: int = 400) -> tuple[Floats, Floats]:
    """Periods and shares of power, the highest of each of `most` equal steps of the logarithm of the period."""
    spectrum = profile.periodogram(values)
    total = float(spectrum.power.sum()) or 1.0
    steps = np.floor(np.log(spectrum.period / 2) / np.log(max(len(values) / 2, 3)) * most).astype(int)
    best: dict[int, int] = {}
    for place, step in enumerate(steps.tolist()):
        if step not in best or spectrum.power[place] > spectrum.power[best[step]]:
            best[step] = place
    chosen = np.array([best[step] for step in sorted(best)])
    return spectrum.period[chosen], spectrum.power[chosen] / total


@blueprint.post(_SERIES + "/shape", responses={200: rooms.ShapeView})
def shape(path: shapes.SeriesPath, body: rooms.ShapeBody) -> Response:
    """Histogram with the normal of the same mean and spread, quantiles, spread against level, lag plots."""
    with section(path, body) as (panel, values):
        known = values[np.isfinite(values)]
        step = panel.axis.step
        counts, edges = np.histogram(known, bins=min(40, max(8, len(known) // 20)))
        mean, spread = (float(known.mean()), float(known.std())) if len(known) else (0.0, 0.0)
        shares = np.diff(special.ndtr((edges - mean) / spread)) if spread > 0 else np.zeros(len(counts))
        expected, quantiles = profile.quantile_points(values)
        by_level = profile.spread_by_level(values, profile.block_of(step.season))
        shown = np.unique(np.linspace(0, max(len(by_level.level) - 1, 0), 400).astype(int))
        lags = body.lags or sorted({1, 2, *[round(length) for length in step.seasons[:2]]})[:4]
        plots = []
        for lag in lags:
            earlier, later = profile.lag_pairs(values, lag)
            together = profile.covariates.correlation(earlier, later) if len(later) > 2 else None
            plots.append(rooms.LagPlot(lag=lag, earlier=earlier.tolist(), later=later.tolist(), correlation=together))
        positive = len(known) > 4 and known.min() > 0
        return answer(
            rooms.ShapeView(
                edges=edges.tolist(), counts=counts.tolist(), normal=(shares * len(known)).tolist(),
                quantiles_normal=expected.tolist(), quantiles=quantiles.tolist(), block=profile.block_of(step.season),
                level=by_level.level[shown].tolist() if len(by_level.level) else [],
                spread=by_level.spread[shown].tolist() if len(by_level.level) else [],
                slope=by_level.slope, verdict=by_level.verdict, lag_plots=plots,
                exponent=profile.box_cox_lambda(known[-profile.TESTED:]) if positive else None,
            )
        )  # fmt: skip


@blueprint.post(_SERIES + "/columns", responses={200: rooms.ColumnsView})
def columns(path: shapes.SeriesPath, body: rooms.ProfileBody) -> Response:
    """Pre-whitened correlation of every column with the series at every lag, and redundancy groups."""
    with section(path, body) as (panel, values):
        season = panel.axis.step.season
        lags = max(2 * season, 12)
        links = profile.covariate_links(panel.with_values(values), 0, min(lags, max(len(values) // 4, 1)))
        views = [
            rooms.LinkView(
                name=link.name, role=link.role, lags=link.lags.astype(int).tolist(),
                correlations=link.correlations.tolist(), best_lag=link.best_lag, best=link.best, bound=link.bound,
                found=link.found, group=link.group,
            )
            for link in links
        ]  # fmt: skip
        rest = [column.name for column in panel.covariates if column.name not in {link.name for link in links}]
        return answer(rooms.ColumnsView(links=views, others=rest))


@blueprint.post(_SERIES + "/overlay", responses={200: rooms.OverlayView})
def overlay(path: shapes.SeriesPath, body: rooms.OverlayBody) -> Response:
    """Another series, or a column, to be laid over this one; if asked, brought to its known mean and spread."""
    panel = services().panel(path.dataset_id)
    index = series_index(panel, path.series)
    if (body.series is None) == (body.column is None):
        raise SettingsError("Lay over either another series or a column.", field="column")
    if body.series is not None:
        other = series_index(panel, body.series)
        label, values, first = panel.keys[other], panel.series(other), int(panel.starts[other])
    else:
        column = panel.covariate(str(body.column))
        label, values, first = column.name, column.series(index), int(panel.starts[index])
    mine, start = panel.series(index), int(panel.starts[index])
    end = panel.known(body.until)
    begin, stop = max(start, first), max(min(start + len(mine), first + len(values), end), max(start, first))
    together = profile.covariates.correlation(mine[begin - start : stop - start], values[begin - first : stop - first])
    if body.standardised:
        (level, spread), (own_level, own_spread) = _moments(values, end - first), _moments(mine, end - start)
        values = own_level + own_spread * (values - level) / spread if spread > 0 else values * np.nan
    shown = line(panel.axis, first, values, body.start, body.stop, body.width)
    return answer(rooms.OverlayView(label=label, line=shown, correlation=together))


def _moments(values: Floats, known: int) -> tuple[float, float]:
    """Mean and standard deviation of the first `known` values; zeros where none is there."""
    there = values[: max(known, 0)]
    there = there[np.isfinite(there)]
    return (float(there.mean()), float(there.std())) if len(there) else (0.0, 0.0)


# the panel


@blueprint.post("/datasets/<int:dataset_id>/features", responses={202: rooms.FeaturesView})
def compute_features(path: rooms.FeaturesPath, body: rooms.FeaturesBody) -> Response:
    """Begin, or go on, to compute the features of every series as of a cutoff; they are kept with the dataset."""
    panel = services().panel(path.dataset_id)
    until = panel.known(body.until)
    profiles.start(services(), path.dataset_id, until)
    return answer(_features(path.dataset_id, panel, until), 202)


@blueprint.get("/datasets/<int:dataset_id>/features", responses={200: rooms.FeaturesView})
def view_features(path: rooms.FeaturesPath, query: rooms.FeaturesQuery) -> Response:
    """The features as of `until`, or those computed last; partial while they are computed."""
    return answer(_features(path.dataset_id, services().panel(path.dataset_id), query.until))


@blueprint.post("/datasets/<int:dataset_id>/features/stop", responses={200: rooms.FeaturesView})
def stop_features(path: rooms.FeaturesPath, body: rooms.FeaturesBody) -> Response:
    """Stop; what is computed stays and can be gone on with."""
    panel = services().panel(path.dataset_id)
    until = panel.known(body.until)
    profiles.stop(services(), path.dataset_id, until)
    return answer(_features(path.dataset_id, panel, until))


def _features(dataset_id: int, panel: Panel, until: int | None) -> rooms.FeaturesView:
    there = profiles.find(services(), dataset_id, until)
    if there is None:
        return rooms.FeaturesView(state="empty", until=until or panel.end, done=0, of=len(panel), reason=None, rows=[])
    found, rows = there
    state, as_of, reason, of = found.state, found.until, found.reason, found.series
    views = []
    for each in rows:
        position = each.series
        ends = epochs(panel.axis, panel.starts[position] + np.array([0, max(int(panel.lengths[position]) - 1, 0)]))
        known = panel.series(position)[: max(as_of - int(panel.starts[position]), 0)]
        views.append(
            rooms.FeatureRow(
                position=position, spark=spark(known, 24), first=ends[0], last_time=ends[1], **each.features
            )
        )
    return rooms.FeaturesView(state=state, until=as_of, done=len(rows), of=of, reason=reason, rows=views)
