"""What the Profile room's answers are made of."""

from collections.abc import Iterator
from contextlib import contextmanager

import numpy as np

from proteron.api import profile_shapes as rooms
from proteron.api import shapes
from proteron.api.services import chain_of, series_index, services
from proteron.core import profile
from proteron.core.flatten import Calendar
from proteron.core.flatten.seasons import phase_labels, season_name
from proteron.core.forecasters import quantile_rows
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import CalendarField, calendar_codes

_WEEKDAYS = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"]
_MONTHS = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"]
_SLOTS: dict[CalendarField, list[str]] = {
    "hour_of_day": [str(hour) for hour in range(24)], "weekday": _WEEKDAYS, "month": _MONTHS,
}  # fmt: skip
_MOST_CYCLE_POINTS = 40_000
_MOST_PHASES = 400


@contextmanager
def section(path: shapes.SeriesPath, body: rooms.ProfileBody) -> Iterator[tuple[Panel, Floats]]:
    """One series as known at the cutoff, in original or, with a chain, in flat units, while a slot is held."""
    panel = services().panel(path.dataset_id)
    index = series_index(panel, path.series)
    with services().computing():
        known = panel.select([index]).cut_at(body.until)
        values = known.series(0)
        if body.chain and len(values):
            values = chain_of(body.chain).fit(known).lanes(known, 0)[-1]
        yield known, values


def test_view(test: profile.TestResult) -> rooms.TestView:
    return rooms.TestView(
        name=test.name, statistic=test.statistic, p_value=test.p_value, lags=test.lags, null=test.null,
        verdict=test.verdict, critical=test.critical,
    )  # fmt: skip


def cycle_lines(panel: Panel, values: Floats, period: int) -> tuple[list[str], list[rooms.CycleLine], int]:
    """Phase labels, the latest cycles, and how many earlier ones were left out.

    Cycles of a day, week or year begin where the calendar's do. Long cycles are shown by means of
    neighbouring phases.
    """
    calendar = Calendar(panel.axis)
    first = int(panel.starts[0])
    _, order = phase_labels(period, first, calendar)
    lead = int(np.flatnonzero(order == 0)[0]) if len(order) == period else 0
    if season_name(period, calendar) == "year" and len(values):
        local = panel.axis.local(np.array([first]))
        begun = (local - local.astype("datetime64[Y]").astype(local.dtype)).astype(np.int64)[0]
        lead = int(begun / panel.axis.step.nominal_seconds) % period
    padded = np.concatenate([np.full(lead, np.nan), values, np.full(-(lead + len(values)) % period, np.nan)])
    table = padded.reshape(-1, period)
    cut = max(len(table) - max(_MOST_CYCLE_POINTS // period, 2), 0)
    merge = max(1, -(-period // _MOST_PHASES))
    starts = first - lead + period * np.arange(len(table))
    texts = np.datetime_as_string(panel.axis.local(starts), unit="D")
    year = season_name(period, calendar) == "year"
    lines = []
    for row in range(cut, len(table)):
        label = str(np.datetime64(texts[row]) + 15)[:4] if year else str(texts[row])
        lines.append(rooms.CycleLine(label=label, values=_merged(table[row], merge).tolist()))
    labels = phase_labels(period, first, calendar)[0]
    return list(labels[::merge]), lines, cut


def _merged(values: Floats, size: int) -> Floats:
    """Means of `size` neighbours, missing ones left out."""
    if size == 1:
        return values
    blocks = np.concatenate([values, np.full(-len(values) % size, np.nan)]).reshape(-1, size)
    present = np.isfinite(blocks)
    counts = present.sum(axis=1)
    return np.where(counts > 0, np.where(present, blocks, 0).sum(axis=1) / np.maximum(counts, 1), np.nan)


def slot_bars(panel: Panel, values: Floats) -> list[rooms.SlotBars]:
    """Mean and middle half of the values in each slot of every calendar field that the step resolves."""
    unit = panel.axis.step.unit
    fields: list[CalendarField] = ["month"]
    if unit in ("second", "minute", "hour"):
        fields = ["hour_of_day", "weekday", "month"]
    elif unit in ("day", "business_day"):
        fields = ["weekday", "month"]
    local = panel.axis.local(panel.positions(0))
    return [_bars(values, calendar_codes(field, local), field) for field in fields]


def _bars(
    values: Floats, codes: "np.ndarray[tuple[int, ...], np.dtype[np.int64]]", field: CalendarField
) -> rooms.SlotBars:
    labels = _SLOTS[field]
    groups = [values[(codes == code) & np.isfinite(values)] for code in range(len(labels))]
    low, high = ([float(quantile_rows(group, q)) if len(group) else None for group in groups] for q in (0.25, 0.75))
    means = [float(group.mean()) if len(group) else None for group in groups]
    return rooms.SlotBars(field=field, labels=labels, mean=means, low=low, high=high)
