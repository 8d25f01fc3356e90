"""Spectra, links between series, strengths, features and suggestions."""

import json

import numpy as np
import pytest
from test_profile import AIRLINE, autoregression

from proteron.core import profile
from proteron.core.errors import TooShortError
from proteron.core.panel import Panel
from proteron.core.profile.strengths import strengths


def test_a_periodogram_sums_to_the_variance_around_a_line(rng: np.random.Generator) -> None:
    for count in (200, 201):
        x = rng.normal(size=count) + 0.1 * np.arange(count)
        line = np.polynomial.Polynomial.fit(np.arange(count), x, 1)(np.arange(count))
        assert profile.periodogram(x).power.sum() == pytest.approx((x - line).var())
    wave = 3 * np.cos(2 * np.pi * np.arange(240) / 12)
    spectrum = profile.periodogram(wave)
    assert spectrum.period[spectrum.power.argmax()] == pytest.approx(12)
    assert spectrum.power.max() == pytest.approx(4.5, rel=0.01)  # half the squared amplitude


def test_gaps_do_not_move_the_peaks(rng: np.random.Generator) -> None:
    at = np.arange(600)
    x = 2 * np.sin(2 * np.pi * at / 24) + rng.normal(size=600)
    holed = np.where(rng.random(600) < 0.3, np.nan, x)
    whole, gappy = profile.periodogram(x), profile.periodogram(holed)
    assert gappy.period[gappy.power.argmax()] == whole.period[whole.power.argmax()] == 24
    assert gappy.power.max() == pytest.approx(whole.power.max(), rel=0.15)
    with pytest.raises(TooShortError):
        profile.periodogram(np.arange(5.0))


def test_an_uneven_periodogram_is_a_least_squares_fit(rng: np.random.Generator) -> None:
    # Scargle 1982: the power is what a sine and a cosine explain.
    x = np.where(rng.random(120) < 0.4, np.nan, rng.normal(size=120))
    present = np.isfinite(x)
    at = np.flatnonzero(present)
    apart = x[present] - np.polynomial.Polynomial.fit(at, x[present], 1)(at)
    spectrum = profile.periodogram(x)
    for place in (3, 10, 30):
        angle = 2 * np.pi * spectrum.frequency[place] * at
        design = np.column_stack([np.cos(angle), np.sin(angle)])
        explained = design @ np.linalg.lstsq(design, apart, rcond=None)[0]
        assert spectrum.power[place] == pytest.approx(explained @ explained / present.sum())


def test_candidate_periods_name_seasons_and_nothing_else() -> None:
    rng = np.random.default_rng(8)
    at = np.arange(2400)
    two = np.sin(2 * np.pi * at / 24) + 0.4 * np.sin(2 * np.pi * at / 168) + 0.5 * rng.normal(size=2400)
    assert [each.period for each in profile.candidate_periods(two)] == [24, 168]
    holed = np.where(rng.random(2400) < 0.15, np.nan, two)
    assert [each.period for each in profile.candidate_periods(holed, expected=(24, 168))] == [24, 168]
    saw = np.tile(np.arange(24.0), 40) + rng.normal(size=960)  # all its waves are one period
    assert [each.period for each in profile.candidate_periods(saw)] == [24]
    assert [each.period for each in profile.candidate_periods(np.log(AIRLINE))] == [12]
    false = sum(bool(profile.candidate_periods(rng.normal(size=400))) for _ in range(60))
    walks = sum(bool(profile.candidate_periods(rng.normal(size=400).cumsum())) for _ in range(60))
    assert false <= 3
    assert walks <= 12
    assert profile.candidate_periods(np.full(100, 2.0)) == []


def test_bartlett_bounds_by_hand() -> None:
    bounds = profile.bartlett_bounds(np.array([1.0, 0.5, 0.2, 0.1]), 100)
    expected = 1.959964 * np.sqrt(np.array([1, 1 + 2 * 0.25, 1 + 2 * (0.25 + 0.04)]) / 100)
    np.testing.assert_allclose(bounds[1:], expected, rtol=1e-6)


def test_a_leading_column_is_found_behind_shared_persistence(rng: np.random.Generator) -> None:
    cause = autoregression(rng, [0.9], 1500)
    effect = np.roll(cause, 5) + autoregression(rng, [0.9], 1500)
    lags, values = profile.cross_correlation(cause, effect, 20)
    assert lags[np.nanargmax(values)] == 5
    left, right = rng.normal(size=1500).cumsum(), rng.normal(size=1500).cumsum()
    raw = np.abs(profile.cross_correlation(left, right, 20, prewhiten=False)[1]).max()
    calm = np.nanmax(np.abs(profile.cross_correlation(left, right, 20)[1]))
    assert calm < 0.1 < raw
    lags, plain = profile.cross_correlation(cause, effect, 3, prewhiten=False)
    centred = [each - each.mean() for each in (cause, effect)]
    by_hand = centred[0][:-2] @ centred[1][2:] / np.sqrt((centred[0] @ centred[0]) * (centred[1] @ centred[1]))
    assert plain[lags == 2][0] == pytest.approx(by_hand)


def test_columns_that_say_the_same_share_a_group(rng: np.random.Generator) -> None:
    a, b = rng.normal(size=400), rng.normal(size=400)
    groups = profile.redundancy_groups([a, b, -3 * a + 0.01 * rng.normal(size=400), np.full(400, 1.0)])
    assert groups[0] == groups[2]
    assert len(set(groups)) == 3
    panel = Panel.from_arrays(
        {"y": np.roll(a, 3) + 0.2 * b}, "2024-01-01", "1h", covariates={"a": a, "noise": rng.normal(size=400)}
    )
    links = {link.name: link for link in profile.covariate_links(panel, 0, 12)}
    assert links["a"].best_lag == 3
    assert links["a"].found
    assert not links["noise"].found


def test_strengths_follow_their_definition(rng: np.random.Generator) -> None:
    at = np.arange(400)
    noise = rng.normal(size=400)
    for amplitude in (0.2, 1.0, 5.0):
        found = strengths(0.01 * at + amplitude * np.sin(2 * np.pi * at / 12) + noise, (12,))
        expected = 1 - 1 / (1 + amplitude**2 / 2)
        assert found.seasons[12] == pytest.approx(expected, abs=0.08)
    assert strengths(noise, (12,)).trend < 0.1
    assert strengths(0.2 * at + noise, (12,)).trend > 0.99
    assert strengths(np.full(50, 3.0), (12,)).seasons[12] == 0


def test_entropy_and_shifts(rng: np.random.Generator) -> None:
    noise = rng.normal(size=2000)
    assert profile.spectral_entropy(noise) > 0.98
    assert profile.spectral_entropy(np.sin(np.arange(2000) * 2 * np.pi / 20) + 0.01 * noise) < 0.4
    shifted = noise + 8 * (np.arange(2000) >= 1000)
    assert profile.level_shift(shifted, 50) == pytest.approx(8 / shifted.std(), rel=0.1)
    assert profile.variance_shift(np.where(np.arange(2000) < 1000, noise, 4 * noise), 100) > 1
    assert profile.lumpiness(np.where(np.arange(2000) % 200 < 100, noise, 4 * noise), 100) > 0.5
    assert profile.lumpiness(noise, 100) < 0.1


@pytest.mark.parametrize(
    ("values", "expected"),
    [
        ([5, 6, 5, 7, 6, 5], "smooth"),
        ([1, 30, 2, 1, 25, 1], "erratic"),
        ([0, 0, 5, 0, 6, 0, 0, 5], "intermittent"),
        ([0, 0, 1, 0, 40, 0, 0, 2], "lumpy"),
        ([0, 0, 0], "none"),
        ([-1, 2, 3], "has negatives"),
    ],
)
def test_demand_is_classed_by_syntetos_and_boylan(values: list[float], expected: str) -> None:
    assert profile.intermittency(values)[0] == expected


def test_spread_by_level_says_which_transform(rng: np.random.Generator) -> None:
    level = np.repeat(np.geomspace(10, 200, 30), 12)
    for power, said in ((1.0, "logarithm"), (0.5, "power of 0.5"), (0.0, "no transform")):
        values = level + 0.05 * level**power * 10 ** (1 - power) * rng.normal(size=360)
        assert said in profile.spread_by_level(values, 12).verdict.replace("0.49", "0.5").replace("0.51", "0.5")
    assert "hardly moves" in profile.spread_by_level(rng.normal(size=100) + 50, 10).verdict


def test_quantile_points_and_lag_pairs() -> None:
    expected, found = profile.quantile_points(np.arange(101.0))
    assert expected[50] == pytest.approx(0)
    assert found[50] == 50
    earlier, later = profile.lag_pairs([1, 2, np.nan, 4, 5], 1)
    assert list(zip(earlier, later, strict=True)) == [(1, 2), (4, 5)]


def test_features_of_a_panel_and_what_is_suggested(rng: np.random.Generator) -> None:
    at = np.arange(300)
    panel = Panel.from_arrays(
        {
            "seasonal": 50 + 10 * np.sin(2 * np.pi * at / 12) + rng.normal(size=300),
            "walk": 500 + rng.normal(size=300).cumsum(),
            "constant": np.full(300, 4.0),
            "missing": np.full(300, np.nan),
            "short": np.array([1.0, 2.0, 3.0]),
        },
        "1990-01-01",
        "1 month",
    )
    with np.errstate(all="raise", under="ignore"):
        rows = {row.key: row for row in profile.panel_features(panel)}
    assert rows["seasonal"].seasons[12] > 0.9
    assert rows["seasonal"].periods == (12.0,)
    assert rows["walk"].trend > 0.8
    assert rows["walk"].p_values["unit root"] > 0.05
    assert rows["constant"].verdict == "Nothing varies: nothing to say."
    assert rows["missing"].known == 0
    assert np.isnan(rows["short"].trend)
    document = json.loads(json.dumps(rows["missing"].document(), allow_nan=False))
    assert document["mean"] is None

    def advice(values: np.ndarray) -> list[dict]:
        tests = profile.run_tests(values, 12)
        found = strengths(values, (12,))
        return [each.stage for each in profile.suggest(values, tests, found, profile.spread_by_level(values, 12), 12)]

    assert [stage["kind"] for stage in advice(AIRLINE)][:2] == ["log", "loess_seasons"]
    assert {"kind": "seasonal_difference", "period": 1} in advice(panel["walk"])
    assert advice(rng.normal(size=300)) == []
