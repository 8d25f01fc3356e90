"""What a feature says of a point has the same bits whatever comes after it: ten thousand random series each; of what is
flagged, which is watched point by point, 120."""

import numpy as np
import pytest
from feature_settings import SETTINGS

import proteron as pt
from proteron.core.leak_check import same_bits
from proteron.core.panel import Panel
from proteron.core.windows import FEATURES, Feature
from proteron.core.windows.flagged import Flagged


def unruly(rng: np.random.Generator, count: int, length: int) -> np.ndarray:
    """Series (count, length) with offsets up to 1e9, spikes, flat runs, steps, zeros of both signs and gaps."""
    values = rng.normal(size=(count, length)) * 10.0 ** rng.integers(-6, 4, size=(count, 1))
    values += rng.choice([0.0, 0.0, 5.0, 1e6, 1e9], size=(count, 1))
    spikes = rng.random((count, length)) < 0.03
    values[spikes] *= 10.0 ** rng.integers(2, 9, size=int(spikes.sum()))
    flat = rng.random((count, length)) < 0.02
    starts = np.maximum.accumulate(np.where(flat, np.arange(length), 0), axis=1)
    held = (np.arange(length) - starts < 15) & (rng.random((count, 1)) < 0.4)
    values = np.where(held, np.take_along_axis(values, starts, axis=1), values)
    values[: count // 10] = np.sign(values[: count // 10]) * 0.0  # zeros of both signs
    values[(rng.random((count, length)) < 0.02) & (rng.random((count, 1)) < 0.5)] = np.nan
    return values


def panel_of(values: np.ndarray, weather: np.ndarray) -> Panel:
    """One panel with all series, built without going through a mapping."""
    count, length = values.shape
    keys = tuple(map(str, range(count)))
    offsets = np.arange(count + 1) * length
    axis = Panel.from_arrays({"a": [0.0]}, "2024-01-01", "1h").axis
    of_series = np.repeat(np.arange(count) % 3, length).astype(float)
    columns = (
        pt.core.panel.Covariate("weather", "observed", weather.ravel(), offsets),
        pt.core.panel.Covariate("size", "static", of_series, offsets),
    )
    return Panel(axis, keys, values.ravel(), offsets, np.zeros(count, dtype=np.int64), columns)


def test_settings_cover_the_registry() -> None:
    assert set(SETTINGS) == set(FEATURES)


@pytest.mark.parametrize("kind", FEATURES, ids=lambda each: each.__name__)
def test_the_past_keeps_its_bits(kind: type[Feature], rng: np.random.Generator) -> None:
    count, length, origin = 120 if kind is Flagged else 10_000, 110, 71
    before = unruly(rng, count, length)
    after = np.concatenate([before[:, :origin], unruly(rng, count, length - origin)], axis=1)
    weather = rng.normal(size=before.shape)
    changed = np.concatenate([weather[:, :origin], weather[:, origin:] * 1e9], axis=1)
    points = np.ravel(np.arange(count)[:, None] * length + np.arange(origin))
    series = np.repeat(np.arange(count), origin)
    for feature in SETTINGS[kind]:
        plan = pt.WindowPlan(lags=[1])
        looks = []
        for values, column in ((before, weather), (after, changed)):
            rows = plan.rows_at(panel_of(values, column), points, series)
            out = np.full((len(points), len(feature.names)), np.nan)
            usable = points - rows.panel.offsets[series] + 1 >= feature.look_back
            part = plan.rows_at(rows.panel, points[usable], series[usable])
            cells = np.full((int(usable.sum()), len(feature.names)), np.nan)
            feature.write(cells, part)
            out[usable] = cells
            looks.append(out)
        wrong = ~same_bits(*looks)
        assert not wrong.any(), f"{feature.names[0]}: {wrong.sum()} cells, first at {points[wrong.any(axis=1)][:3]}"
