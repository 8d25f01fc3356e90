"""Profile: what a series is, as of the cutoff."""

from collections.abc import Callable

import numpy as np
from flask_openapi3 import APIBlueprint
from werkzeug.wrappers import Response

from proteron.api import shapes
from proteron.api.lines import epochs
from proteron.api.services import answer, series_index, services
from proteron.core import profile
from proteron.core.errors import ProteronError
from proteron.core.forecasters import quantile_rows
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import CalendarField, calendar_codes
from proteron.core.windows import rolling_moments

blueprint = APIBlueprint("profile", __name__, url_prefix="/api/v1")

_WEEKDAYS = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"]
_MONTHS = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"]
_LABELS: dict[CalendarField, list[str]] = {
    "hour_of_day": [str(hour) for hour in range(24)], "weekday": _WEEKDAYS, "month": _MONTHS,
}  # fmt: skip
_TESTED_POINTS = 4000


@blueprint.get("/datasets/<int:dataset_id>/series/<int:series>/profile", responses={200: shapes.ProfileView})
def series_profile(path: shapes.SeriesPath, query: shapes.UntilQuery) -> Response:
    """Level, cycles, correlograms, distribution and tests of what is known at `until`."""
    panel = services().panel(path.dataset_id)
    index = series_index(panel, path.series)
    with services().computing():
        return answer(_profile(panel.cut_at(query.until), index))


def _profile(panel: Panel, index: int) -> shapes.ProfileView:
    values = panel.series(index)
    known = values[np.isfinite(values)]
    season = panel.axis.step.season
    lags = min(max(3 * season, 40), 200, max(len(values) - 1, 1))
    counts, edges = np.histogram(known, bins=min(40, max(5, len(known) // 20)))
    level, band_low, band_high = _level(panel, index, season)
    recent = values[-_TESTED_POINTS:]
    tests = run_tests(recent, season)
    return shapes.ProfileView(
        known=len(known),
        missing=len(values) - len(known),
        mean=float(known.mean()) if len(known) else None,
        spread=float(known.std()) if len(known) else None,
        acf=_or_empty(profile.acf, values, lags),
        pacf=_or_empty(profile.pacf, recent, lags),
        bound=1.96 / np.sqrt(max(len(known), 1)),
        season=season,
        histogram_edges=edges.tolist(),
        histogram_counts=counts.tolist(),
        cycles=[_bars(panel, index, field) for field in _fields(panel)],
        tests=[test_view(test) for test in tests],
        verdict=verdict_of(tests),
        box_cox=float(profile.box_cox_lambda(recent)) if len(known) > 4 and np.nanmin(recent) > 0 else None,
        level=level,
        band_low=band_low,
        band_high=band_high,
    )


def run_tests(values: Floats, season: int) -> list[profile.TestResult]:
    """Unit root, stationarity and whiteness, those that can be run on these points."""
    results = []
    lags = max(1, min(2 * season, len(values) // 5))
    for test in (profile.unit_root, profile.stationarity, lambda x: profile.ljung_box(x, lags)):
        try:
            results.append(test(values))
        except ProteronError:
            continue
    return results


def verdict_of(tests: list[profile.TestResult]) -> str:
    by_name = {test.name: test for test in tests}
    if {"unit root", "stationarity"} <= by_name.keys():
        return profile.joint_verdict(by_name["unit root"], by_name["stationarity"])
    return "Too few known points to test."


def test_view(test: profile.TestResult) -> shapes.TestView:
    return shapes.TestView(
        name=test.name, statistic=test.statistic, p_value=test.p_value, lags=test.lags, null=test.null,
        verdict=test.verdict,
    )  # fmt: skip


def _or_empty(correlogram: Callable[[Floats, int], Floats], values: Floats, lags: int) -> list[float | None]:
    try:
        return correlogram(values, lags).tolist()
    except ProteronError:
        return []


def _fields(panel: Panel) -> list[CalendarField]:
    unit = panel.axis.step.unit
    if unit in ("second", "minute", "hour"):
        return ["hour_of_day", "weekday", "month"]
    return ["weekday", "month"] if unit == "day" else ["month"]


def _bars(panel: Panel, index: int, field: CalendarField) -> shapes.CycleBars:
    """Mean and middle half of the values in each calendar slot."""
    values = panel.series(index)
    codes = calendar_codes(field, panel.axis.local(panel.positions(index)))
    labels = _LABELS[field]
    groups = [values[(codes == code) & np.isfinite(values)] for code in range(len(labels))]
    quarters = [[float(quantile_rows(group, q)) if len(group) else None for group in groups] for q in (0.25, 0.75)]
    means = [float(group.mean()) if len(group) else None for group in groups]
    return shapes.CycleBars(field=field, labels=labels, mean=means, low=quarters[0], high=quarters[1])


def _level(panel: Panel, index: int, season: int) -> tuple[shapes.Line, list[float | None], list[float | None]]:
    """Rolling mean over one long cycle, with one rolling standard deviation on either side."""
    values = np.ascontiguousarray(panel.series(index))
    seasons = [round(length) for length in panel.axis.step.seasons if 2 * length <= len(values)]
    window = max(2, min(seasons[1] if len(seasons) > 1 else 2 * season, len(values)))
    means, squares = rolling_moments(values, np.array([0, len(values)]), window)
    spread = np.sqrt(squares / (window - 1))
    pick = np.unique(np.linspace(0, max(len(values) - 1, 0), 600).astype(int))
    first = int(panel.starts[index])
    times = epochs(panel.axis, first + pick)
    shown = shapes.Line(times=times, values=means[pick].tolist(), exact=False)
    return shown, (means - spread)[pick].tolist(), (means + spread)[pick].tolist()
