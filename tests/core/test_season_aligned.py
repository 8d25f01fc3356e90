"""The season-aligned ridge: its features against an obvious twin, and what it can follow."""

import numpy as np
import pytest

import proteron as pt
from proteron.core.forecasters.season_aligned import _robust_ridge, cycles_within, feature_names, features_from, filled


def twin(values, origin, seasons, cycles, step, reach, unit):
    """Features of one step after `origin` points, one by one, as in words."""
    known, found, base = values[:origin], {}, 0.0
    target = origin + step - 1
    for place, (season, count) in enumerate(zip(seasons, cycles, strict=True)):
        if not count:
            continue
        figure = np.zeros(season)  # by place in the cycle that ends at the origin
        starts = [origin - season * (back + 1) for back in range(count)]
        for start in starts:
            figure += (known[start : start + season] - known[start : start + season].mean()) / count
        mine = figure[(target - origin) % season]
        for back in (1, 2, 3):
            at = target
            while at >= origin:
                at -= season
            found[f"{back} × {season} before"] = known[at - season * (back - 1)]
        means = [known[start : start + season].mean() for start in starts]
        found[f"mean {season} and figure"] = means[0] + mine
        found[f"last and figure {season}"] = known[-1] + mine - figure[-1]
        found |= {
            f"mean {season}": means[0],
            f"mean {season}, 1 before": means[1],
            f"mean {season}, 2 before": means[2],
        }
        for span in (3, season // 2) if place == 0 else (1, 6, seasons[0]):
            rest = [known[-1 - back] - figure[(-1 - back) % season] for back in range(span)]
            found[f"rest {span} and figure {season}"] = np.mean(rest) + mine
        base = means[0]
    told = {name: (value - base) / unit for name, value in found.items()}
    return told | {"step ahead": min(step, reach), "share of the way": min(step, reach) / reach}


@pytest.mark.parametrize("cycles", [(7, 4), (3, 0), (5, 3)])
def test_features_are_what_their_names_say(cycles: tuple[int, int], rng: np.random.Generator) -> None:
    values, seasons = rng.normal(size=300), (8, 24)
    origins = np.array([160, 201, 290])
    found, _ = features_from(values, origins, seasons, cycles, 30, 20, 0.7)
    names = feature_names(seasons, cycles)
    for row, origin in enumerate(origins):
        for step in (1, 2, 7, 25, 30):
            expected = twin(values, int(origin), seasons, cycles, step, 20, 0.7)
            assert names == list(expected)
            np.testing.assert_allclose(found[row, step - 1], list(expected.values()), atol=1e-12)


def test_how_many_cycles_are_read_and_how_gaps_are_filled() -> None:
    assert cycles_within(1000, (24, 168)) == (7, 4) and cycles_within(505, (24, 168)) == (7, 3)
    assert cycles_within(503, (24, 168)) == (7, 0) and cycles_within(71, (24,)) == (0,)
    nan = np.nan
    values, first = filled(np.array([nan, 1.0, nan, 3.0, 4.0, nan, nan, nan]), 3)
    assert first == 1 and values.tolist() == [1.0, 1.0, 3.0, 4.0, 1.0, 3.0, 4.0]
    assert filled(np.full(3, nan), 3)[1] == 3


def test_the_ridge_is_exact_without_a_penalty_and_hardly_moved_by_few(rng: np.random.Generator) -> None:
    rows = rng.normal(size=(400, 3)) * (1.0, 50.0, 1.0)
    rows[:, 2] = 4.0  # tells nothing
    targets = 2 + rows @ (1.5, -0.02, 7.0)
    found, middle = _robust_ridge(rows, targets, 1e-12)
    np.testing.assert_allclose([*found, middle], [1.5, -0.02, 0.0, 30.0], atol=1e-8)
    spoiled = targets + 0.05 * rng.normal(size=400)
    spoiled[:20] += 30
    found, middle = _robust_ridge(rows, spoiled, 1e-9)
    np.testing.assert_allclose([*found, middle], [1.5, -0.02, 0.0, 30.0], atol=0.06)


def two_seasons(count: int, rng: np.random.Generator) -> np.ndarray:
    hours = np.arange(count)
    day, weekend = np.sin(2 * np.pi * hours / 24), hours // 24 % 7 >= 5
    return 50 + 0.002 * hours + np.where(weekend, 4.0, 10.0) * day + rng.normal(size=count)


def test_it_follows_both_seasons_and_the_level(rng: np.random.Generator) -> None:
    panel = pt.Panel.from_arrays({"a": two_seasons(1700, rng)}, "2024-01-01", "1h")
    entered = {"week": pt.forecaster("seasonal_last_value", period=168), "ridge": pt.forecaster("season_aligned_ridge")}
    report = pt.walk_forward(panel, entered, pt.Folds.expanding(3, 48, span=96, every=24), metrics=("mae",))
    assert report.board.row("ridge")["skill"] > 0.1
    fitted = entered["ridge"].fit(panel, until=1600, horizon=48)
    assert "cycles of 7 × 24 and 4 × 168 points" in fitted.summary
    assert set(fitted.parameters) == set(feature_names((24, 168), (7, 4)))
    assert np.isfinite(fitted.forecast(100).mean).all()  # further than it learned


def test_short_series_get_one_season_or_a_reason(rng: np.random.Generator) -> None:
    values = two_seasons(400, rng)
    panel = pt.Panel.from_arrays({"a": values}, "2024-01-01", "1h")
    fitted = pt.forecaster("season_aligned_ridge").fit(panel, horizon=24)
    assert "cycles of 7 × 24 points" in fitted.summary
    declined = pt.forecaster("season_aligned_ridge").fit(panel.cut_at(80), horizon=24)
    assert "3 cycles of 24 points and 32 points more are needed; 80 are known" in declined.summary
    for periods in ((24, 12), (), (0,)):
        with pytest.raises(pt.SettingsError, match="shorter first"):
            pt.forecaster("season_aligned_ridge", periods=periods)


def test_a_series_that_stopped_long_ago_is_learned_beside_one_that_goes_on(rng: np.random.Generator) -> None:
    hour = np.arange(1500)
    values = 30 + 8 * np.sin(hour * np.pi / 12) + rng.normal(size=1500)
    panel = pt.Panel.from_arrays({"on": values, "stopped": values[:400]}, "2024-01-01", "1 hour")
    answer = pt.forecaster("season_aligned_ridge").fit(panel, horizon=24).forecast(24)
    assert np.isfinite(answer.mean[0]).all()
