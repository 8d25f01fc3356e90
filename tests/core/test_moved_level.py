"""A level that moves is found, one that does not is left alone."""

import numpy as np
import pytest

from proteron.core.profile.moved_level import moved_level


@pytest.mark.parametrize("season", [1, 12])
def test_a_level_that_moves_is_measured(season: int, rng: np.random.Generator) -> None:
    time = np.arange(400)
    for slope in (0.02, -0.02):
        values = slope * time + 3 * np.sin(2 * np.pi * time / 12) + 0.5 * rng.normal(size=400)
        values[30:40] = np.nan
        assert moved_level(values, season) == pytest.approx(slope * 400, rel=0.15)
    assert moved_level(5.0 + time, 12) == pytest.approx(12 * 32)


def test_what_may_be_chance_is_not_told() -> None:
    rng, said = np.random.default_rng(4), 0
    for _ in range(200):
        values = np.zeros(600)
        for at in range(1, 600):
            values[at] = 0.6 * values[at - 1] + rng.normal()
        said += moved_level(values + np.sin(np.arange(600) * np.pi / 12), 24) is not None
    assert said <= 6
    assert moved_level(np.full(500, 7.0), 24) is None and moved_level(np.full(500, np.nan), 24) is None
    assert moved_level(np.arange(100.0), 24) is None  # four cycles
    noise = rng.normal(size=40_000)
    assert moved_level(2e-5 * np.arange(40_000) + noise, 1) is not None
    assert moved_level(2e-6 * np.arange(40_000) + noise, 1) is None  # sure, perhaps, but less than what it swings by
