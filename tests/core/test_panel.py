"""Panels: ragged, immutable, hashed."""

import numpy as np
import pytest

from proteron.core.errors import InputError, SettingsError
from proteron.core.panel import NOT_LEARNED, NOT_SCORED, Panel


def test_a_ragged_panel_is_cut_at_a_time(hourly: Panel) -> None:
    cut = hourly.cut_at("2024-01-03 01:00")
    assert cut.lengths.tolist() == [50, 2]
    assert cut["north"].tolist()[:5] == hourly["north"].tolist()[:5]
    assert len(cut.covariate("weather").series(0)) == 50
    assert len(cut.covariate("plan").series(0)) == 1500  # known ahead


def test_between_drops_the_front_and_keeps_the_grid(hourly: Panel) -> None:
    part = hourly.between(60, 100)
    assert part.starts.tolist() == [60, 60]
    assert part.lengths.tolist() == [40, 40]
    assert part["east"].tolist() == hourly["east"][12:52].tolist()
    assert part.times("north")[0] == hourly.times("north")[60]
    assert part.covariate("weather").series(1).tolist() == hourly.covariate("weather").series(1)[12:52].tolist()


def test_the_hash_follows_content_only(hourly: Panel) -> None:
    same = Panel(
        hourly.axis, hourly.keys, hourly.values.copy(), hourly.offsets, hourly.starts, hourly.covariates, unit="m³/h"
    )
    assert same.hash == hourly.hash
    changed = hourly.values.copy()
    changed[17] = np.nextafter(changed[17], 1e9)
    assert hourly.with_values(changed).hash != hourly.hash
    assert hourly.select([1, 0]).hash != hourly.hash


def test_arrays_are_read_only(hourly: Panel) -> None:
    with pytest.raises(ValueError, match="read-only"):
        hourly.values[0] = 1.0


def test_masked_points_are_neither_learned_nor_scored() -> None:
    panel = Panel.from_arrays({"a": [1.0, 2.0, 3.0]}, "2024", "1 year")
    marked = Panel(
        panel.axis,
        panel.keys,
        panel.values,
        panel.offsets,
        panel.starts,
        marks=np.array([NOT_LEARNED, NOT_SCORED, 0], np.uint8),
    )
    assert np.isnan(marked.learnable().values).tolist() == [True, False, False]
    assert np.isnan(marked.scorable()).tolist() == [False, True, False]


def test_bad_input_is_named() -> None:
    with pytest.raises(InputError, match="at least one series"):
        Panel.from_arrays({}, "2024-01-01", "1h")
    with pytest.raises(InputError, match="has 2 values for 3 points"):
        Panel.from_arrays({"a": [1, 2, 3]}, "2024-01-01", "1h", covariates={"c": [1, 2]})
    with pytest.raises(SettingsError, match="not a time zone"):
        Panel.from_arrays({"a": [1, 2]}, "2024-01-01", "1h", zone="Mars/Base")
    with pytest.raises(SettingsError, match="no series"):
        Panel.from_arrays({"a": [1, 2]}, "2024-01-01", "1h")["b"]
