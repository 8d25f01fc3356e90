"""Ranges from few walk-forward errors: they cover as often as they say, and the forecast lies in its own range."""

import numpy as np
import pytest
from scipy import stats

import proteron as pt
from proteron.core.forecasters.ranges import ends_from_errors, enough_errors
from proteron.core.panel import Panel

LEVELS = (0.5, 0.8, 0.95)


def outlooks(folds: int, kind: str, chain: pt.Chain, horizon: int = 3, series: int = 1200):  # type: ignore[no-untyped-def]
    """Ranges of an outlook after so many folds on simulated series, and what then came."""
    rng = np.random.default_rng(folds)
    noise = rng.normal(size=(series, 260))
    values = 100 + 5 * noise if kind == "noise" else 100 + np.cumsum(0.5 * noise, axis=1)
    values = np.exp(values / 50) if chain.active else values
    cut = 260 - horizon
    panel = Panel.from_arrays({str(i): row[:cut] for i, row in enumerate(values)}, "2024-01-01", "1 day")
    name = "mean" if kind == "noise" else "last_value"
    contender = pt.forecaster(name, chain=chain)
    report = pt.walk_forward(panel, {"one": contender}, pt.Folds.expanding(count=folds, horizon=horizon))
    return pt.outlook(panel, contender, report.results, horizon, LEVELS, paths=1), values[:, cut:]


@pytest.mark.parametrize("kind", ["noise", "walk"])
@pytest.mark.parametrize("folds", [1, 3, 8, 20, 45])
def test_ranges_cover_as_often_as_they_say(folds: int, kind: str) -> None:
    forecast, truth = outlooks(folds, kind, pt.Chain())
    for level in LEVELS:
        covered = ((forecast.lower[level] <= truth) & (truth <= forecast.upper[level])).mean()
        assert covered == pytest.approx(level, abs=0.02), level
        assert (forecast.lower[level] <= forecast.mean).all()
        assert (forecast.mean <= forecast.upper[level]).all()
    for inner, outer in ((0.5, 0.8), (0.8, 0.95)):
        assert (forecast.lower[outer] < forecast.lower[inner]).mean() > 0.97, "levels are told apart"
        assert (forecast.upper[outer] > forecast.upper[inner]).mean() > 0.97


def test_behind_a_logarithm_they_are_told_in_logarithms() -> None:
    """Where errors are alike in ratios, a wide range from two folds stays positive and covers."""
    forecast, truth = outlooks(2, "noise", pt.Chain([pt.flatten.Log()]))
    assert (forecast.lower[0.95] > 0).all()
    covered = ((forecast.lower[0.95] <= truth) & (truth <= forecast.upper[0.95])).mean()
    assert covered == pytest.approx(0.95, abs=0.02)
    middle = np.sqrt(forecast.lower[0.95] * forecast.upper[0.95])
    assert middle == pytest.approx(forecast.mean), "as far to either side, in ratios"


@pytest.mark.parametrize(("level", "count"), [(0.5, 3), (0.8, 9), (0.9, 19), (0.95, 39), (0.99, 199)])
def test_enough_errors_are_those_whose_extremes_tell_the_ends(level: float, count: int) -> None:
    assert enough_errors(level) == count
    errors = np.sort(np.random.default_rng(1).normal(size=(count, 4)), axis=0)
    centre = np.median(errors, axis=0)
    ends = ends_from_errors(errors, centre, [level])
    assert ends[0, 0] == pytest.approx(errors[0])
    assert ends[0, 1] == pytest.approx(errors[-1])
    fewer = ends_from_errors(errors[1:], centre, [level])
    reach = stats.t.ppf(0.5 + level / 2, count - 1) * np.sqrt(((errors[1:] - centre) ** 2).mean(axis=0))
    assert fewer[0, 1] == pytest.approx(centre + reach)
    assert fewer[0, 0] == pytest.approx(centre - reach)
    spread = np.sqrt(((errors - centre) ** 2).mean(axis=0))
    beside = ends_from_errors(errors, centre, [level, 0.999])[0, 1]
    assert beside == pytest.approx(centre + stats.t.ppf(0.5 + level / 2, count) * spread), "one way for all levels"


def test_missing_errors_are_not_counted_and_none_is_no_range() -> None:
    errors = np.array([[1.0, np.nan, np.nan], [-1.0, 2.0, np.nan]])
    ends = ends_from_errors(errors, np.array([10.0, 20.0, 30.0]) * 0, [0.8])
    assert ends[0, 1, 0] == pytest.approx(stats.t.ppf(0.9, 2))
    assert ends[0, 1, 1] == pytest.approx(2 * stats.t.ppf(0.9, 1))
    assert np.isnan(ends[0, :, 2]).all()
    assert np.isnan(ends_from_errors(np.empty((0, 3)), np.zeros(3), [0.8])).all()


def test_a_forecast_that_was_always_too_low_still_lies_in_its_range() -> None:
    possible = 5 + np.random.default_rng(2).uniform(size=(60, 1))
    ends = ends_from_errors(possible, np.zeros(1), [0.5, 0.95])
    assert (ends[:, 0] == 0).all()
    assert (ends[:, 1] > 5).all()


def test_a_chosen_exponent_stays_between_nothing_and_one_and_forecasts_in_the_domain() -> None:
    """Left alone, the likelihood would choose an exponent at which what is forecast runs off."""
    rng = np.random.default_rng(3)
    bowl = np.sqrt(rng.uniform(120**2, 320**2, size=80))
    panel = Panel.from_arrays({"a": bowl}, "2024-01-01", "1 month")
    assert pt.profile.box_cox_lambda(bowl) > 1.3
    fitted = pt.forecaster("drift", chain=pt.Chain([pt.flatten.BoxCox()])).fit(panel)
    (state,) = fitted.chain.states_of("a")
    assert state.number("exponent") == 1.0
    for exponent in (-1.0, 0.0, 0.5, 1.0, 2.0):
        given = pt.forecaster("drift", chain=pt.Chain([pt.flatten.BoxCox(exponent=exponent)])).fit(panel)
        flat = np.linspace(-80, 80, 41).reshape(1, 1, 41)
        means = given.chain.undo_ahead("a", flat[0], np.array([80]), 0, given.chain.lanes(panel, 0))
        assert (means >= 0).all()
        assert (np.diff(means) >= 0).all()
        assert np.abs(means).max() < 1e6 * (1 if exponent >= 0 else 10) or exponent == 0.0
        found = given.forecast(24, flat_errors=rng.normal(size=(6, 1, 24)))
        for level in found.levels:
            assert (found.lower[level] >= 0).all()
        round_trip = given.chain.undo(given.chain.apply(panel))
        assert round_trip.values == pytest.approx(panel.values)
