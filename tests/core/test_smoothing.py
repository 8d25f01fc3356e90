"""Smoothing and its kin: gradients, published values, ranges, recovery; and no forecaster stumbles over ugly series."""

import numpy as np
import pytest
from reference_series import AIRLINE, NILE

import proteron as pt
from proteron.core.forecasters.forecaster import Work
from proteron.core.forecasters.noise import Noise
from proteron.core.forecasters.smoothing import Form, admissible_forms, choose_form, fit_form
from proteron.core.forecasters.smoothing.fit import aimed_error, run
from proteron.core.forecasters.smoothing.forecaster import Smoothing
from proteron.core.forecasters.smoothing.kernels import smooth
from proteron.core.forecasters.smoothing.likelihood import fold_back, likelihood, sensitivities, smooth_back, unfold

FORMS = [
    Form(error, trend, season, damped)
    for error in ("additive", "multiplicative")
    for trend in (None, "additive", "multiplicative")
    for season in (None, "additive", "multiplicative")
    for damped in ((False, True) if trend else (False,))
]


def slow_pass(form: Form, values: np.ndarray, weights: np.ndarray, start: np.ndarray, period: int) -> list[float]:
    """One-step means by the equations as printed (Hyndman, Koehler, Ord & Snyder 2008, tables 2.2 and 2.3)."""
    alpha, beta, gamma, phi = weights
    level, slope, seasons = start[0], start[1], list(start[2:])
    means = []
    for t, y in enumerate(values):
        trend = 0.0 if form.trend is None else phi * slope if form.trend == "additive" else slope**phi
        base = {None: level, "additive": level + trend, "multiplicative": level * trend}[form.trend]
        s = seasons[t] if form.season else None
        mean = base if s is None else base + s if form.season == "additive" else base * s
        means.append(mean)
        if not np.isfinite(y):
            level, slope = base, trend
            if form.season:
                seasons.append(s)
            continue
        left = y if s is None else y - s if form.season == "additive" else y / s
        new = alpha * left + (1 - alpha) * base
        if form.trend == "additive":
            slope = trend + beta / alpha * (new - level - trend)
        elif form.trend == "multiplicative":
            slope = trend + beta / alpha * (new / level - trend)
        if form.season:
            seasons.append(gamma * (y - base if form.season == "additive" else y / base) + (1 - gamma) * s)
        level = new
    return means


def test_whole_words_are_understood_as_the_short_ones() -> None:
    long = pt.forecaster("smoothing", error="additive", trend="multiplicative", season=None)
    assert long == pt.forecaster("smoothing", error="additive", trend="multiplicative", season="none")
    assert long.hash == pt.forecaster("smoothing", error="additive", trend="multiplicative", season=None).hash


@pytest.mark.parametrize("form", FORMS, ids=lambda form: form.words)
def test_passes_and_gradients_of_every_form(form: Form, rng: np.random.Generator) -> None:
    n, period = 60, 4 if form.season else 1
    values = 0.5 + 0.003 * np.arange(n) + 0.05 * np.sin(np.arange(n) * np.pi / 2) + 0.01 * rng.normal(size=n)
    values[[7, 20]] = np.nan
    error, trend, season = form.codes
    scale = np.zeros((2 + period, 2))
    scale[0], scale[1] = (0.5, 0.1), (0.003 if trend == 1 else 1.004, 0.01)
    scale[2:] = (0.0 if season < 2 else 1.0, 0.05)
    free, given = 0.3 * rng.normal(size=5 + period), np.full(4, np.nan)
    weights, start = np.empty(4), np.empty(2 + period)
    room = [np.empty(n), np.empty(n + 1), np.empty(n + 1), np.empty(n + period)]
    pull = np.empty(n)

    def value(at: np.ndarray) -> float:
        unfold(at, given, trend, season, form.damped, period, scale, weights, start)
        assert smooth(values, trend, season, period, weights, start, *room)
        return float(likelihood(values, error, room[0], pull))

    value(free)
    shown = weights * [1, weights[0], 1, 1]
    np.testing.assert_allclose(room[0], slow_pass(form, values, shown, start, period), rtol=1e-12)
    of_weights, of_start, slope = np.empty(4), np.empty(2 + period), np.zeros(len(free))
    smooth_back(values, trend, season, period, weights, pull, *room[1:], of_weights, of_start)
    fold_back(free, given, trend, season, form.damped, period, scale, weights, of_weights, of_start, slope, True)
    steps = 1e-6 * np.eye(len(free))
    numeric = np.array([(value(free + step) - value(free - step)) / 2e-6 for step in steps])
    np.testing.assert_allclose(slope, numeric, atol=1e-6 * np.abs(numeric).max())
    again, inner = np.empty(len(free)), np.empty((len(free), len(free)))
    told = sensitivities(values, error, trend, season, form.damped, period, given, scale, free, True, again, inner)
    assert told == pytest.approx(value(free), rel=1e-12)
    np.testing.assert_allclose(again, slope, atol=1e-9 * np.abs(slope).max())

    def residuals(at: np.ndarray) -> np.ndarray:
        value(at)
        return ((values - room[0]) / (room[0] if error == 2 else 1.0))[np.isfinite(values)]

    moves = np.array([(residuals(free + step) - residuals(free - step)) / 2e-6 for step in steps])
    gauss = moves @ moves.T * moves.shape[1] / (residuals(free) ** 2).sum()
    np.testing.assert_allclose(np.tril(inner), np.tril(gauss), atol=1e-6 * np.abs(gauss).max())


def test_the_best_form_is_at_least_as_good_as_published() -> None:
    """Multiplied errors, damped trend and multiplied season of the airline series: weights and likelihood in print.

    Printed (Hyndman et al. 2008's own software on this series): AIC 1395.17 with the constants of the likelihood left
    out, level weight .71, damping .98.
    """
    n = len(AIRLINE)
    constants = n * (np.log(2 * np.pi / n) + 1)
    damped = fit_form(AIRLINE, Form("multiplicative", "additive", "multiplicative", True), 12)
    assert damped.free == 18
    assert damped.criteria["aic"] - constants < 1395.17 + 0.01
    assert damped.weights[0] == pytest.approx(0.71, abs=0.08) and damped.weights[3] == pytest.approx(0.98, abs=1e-3)
    forms = admissible_forms(AIRLINE, 12)
    assert len(forms) == 15
    best, tried = choose_form(AIRLINE, forms, 12)
    assert best.form.error == best.form.season == "multiplicative" and best.form.trend == "additive"
    assert [each.criteria["aicc"] for each in tried] == sorted(each.criteria["aicc"] for each in tried)
    for each in tried:  # no start finds anything better
        assert all(
            fit_form(AIRLINE, each.form, 12, tolerance=1e-11).loglik <= each.loglik + 0.02 for _ in range(1)
        )  # fmt: skip
    with pytest.raises(pt.TooShortError):
        fit_form(AIRLINE[:10], Form("additive", "additive", "additive"), 12)
    assert not any(form.needs_positive for form in admissible_forms(AIRLINE - 200, 12))


def test_given_weights_stand_and_the_level_of_the_nile_is_known() -> None:
    """Simple smoothing of the Nile with weight .25; the structural model's variances: Durbin & Koopman 2012, § 2.10."""
    given = fit_form(NILE, Form(), 1, weights=(0.25, None, None, None))
    assert given.weights[0] == 0.25
    free = fit_form(NILE, Form(), 1)
    assert free.loglik > given.loglik and free.weights[0] == pytest.approx(0.2457, abs=2e-3)
    panel = pt.Panel.from_arrays({"nile": NILE}, "1871-01-01", "1 month")
    level = pt.forecaster("local_level").fit(panel)
    assert level.parameters["variance_observation"] == pytest.approx(15099, abs=1)
    assert level.parameters["variance_level"] == pytest.approx(1469.1, abs=0.2)
    assert level.criteria["loglik"] == pytest.approx(-632.54, abs=0.01)


@pytest.mark.parametrize(
    "form",
    [f for f in FORMS if f.trend != "multiplicative" and (f.season, f.error) != ("multiplicative", "additive")],
    ids=lambda form: form.words,
)
def test_ranges_by_theory_equal_those_of_simulated_paths(form: Form) -> None:
    panel = pt.Panel.from_arrays({"a": AIRLINE}, "1949-01-01", "1 month")
    settings = {"error": form.error, "trend": form.trend, "season": form.season, "damped": form.damped}
    model = Smoothing(**settings)
    state = model.learn(panel, Work())
    learned = model.learned(state, "a")
    spread = model.spreads_of(learned, AIRLINE, 144, 18)
    paths = model.paths_of(learned, AIRLINE, 144, Noise.draw(3, 20_000, 18))
    mean = model.means_of(learned, AIRLINE, np.array([144]), 18)[0]
    assert paths.std(axis=0) / spread == pytest.approx(np.ones(18), abs=0.05)
    assert (paths.mean(axis=0) - mean) / spread == pytest.approx(np.zeros(18), abs=0.05)


def test_weights_are_recovered_and_ranges_cover() -> None:
    """Sixty series made by the model itself; the weights found lie around the true ones, ranges cover as they say."""
    found, inside = [], {0.8: 0, 0.95: 0}
    for seed in range(60):
        rng = np.random.default_rng([5, seed])
        level, slope, values = 100.0, 0.5, []
        for error in rng.normal(size=306):
            values.append(level + slope + error)
            level, slope = level + slope + 0.4 * error, slope + 0.1 * error
        panel = pt.Panel.from_arrays({"a": values[:300]}, "2000-01-01", "1 month")
        fitted = pt.forecaster("smoothing", error="additive", trend="additive", season=None, damped=False).fit(panel)
        found.append([fitted.parameters["level_weight"], fitted.parameters["trend_weight"]])
        forecast, future = fitted.forecast(6, levels=(0.8, 0.95)), np.array(values[300:])
        for level_ in inside:
            within = (forecast.lower[level_][0] <= future) & (future <= forecast.upper[level_][0])
            inside[level_] += int(within.sum())
    assert np.mean(found, axis=0) == pytest.approx([0.4, 0.1], abs=0.03)
    assert inside[0.8] / 360 == pytest.approx(0.8, abs=0.08)
    assert inside[0.95] / 360 == pytest.approx(0.95, abs=0.04)


def test_new_points_move_the_state_on_as_one_pass_would() -> None:
    fitted = fit_form(AIRLINE[:120], Form("multiplicative", "additive", "multiplicative"), 12)
    whole, part = run(fitted, AIRLINE), run(fitted, AIRLINE[:120])
    np.testing.assert_array_equal(whole.means[:120], part.means)
    panel = pt.Panel.from_arrays({"a": AIRLINE}, "1949-01-01", "1 month")
    entered = pt.forecaster(
        "smoothing", error="multiplicative", trend="additive", season="multiplicative", damped=False
    ).fit(panel, until=120)
    later = entered.means(panel, np.array([130]), 1)[0][0, 0, 0]
    assert later == pytest.approx(run(entered_form(entered), AIRLINE).means[130], rel=1e-10)


def entered_form(entered: pt.forecasters) -> object:  # type: ignore[valid-type]
    from proteron.core.forecasters.smoothing.forecaster import _fitted

    return _fitted(entered.contender.forecaster.learned(entered.state, "a"))


def test_theta_is_smoothing_with_half_the_slope() -> None:
    """Without a season: the level of simple smoothing plus a drift of half the line's slope (Hyndman & Billah 2003)."""
    panel = pt.Panel.from_arrays({"nile": NILE}, "1871-01-01", "1 month")
    fitted = pt.forecaster("theta", season=None).fit(panel)
    forecast = fitted.forecast(5).mean[0]
    slope = np.polyfit(np.arange(100), NILE, 1)[0]
    assert np.diff(forecast) == pytest.approx(np.full(4, slope / 2))
    free = pt.forecaster("theta", season=None, theta=None).fit(panel)
    assert 1 <= free.parameters["theta"] <= 10


def test_intermittent_demand_by_hand() -> None:
    """Croston's smoothing on a short series, worked out by hand with both weights a half."""
    values = np.array([0, 0, 4, 0, 2, 0, 0, 6.0])
    panel = pt.Panel.from_arrays({"a": values}, "2024-01-01", "1 day")
    settings = {"weight": 0.5, "interval_weight": 0.5}
    size, gap = 4.0, 3.0
    for demand, since in ((2, 2), (6, 3)):
        size, gap = size + 0.5 * (demand - size), gap + 0.5 * (since - gap)
    plain = pt.forecaster("intermittent", method="croston", **settings).fit(panel).forecast(2).mean[0]
    assert plain == pytest.approx([size / gap] * 2)
    mended = pt.forecaster("intermittent", method="approximated", **settings).fit(panel).forecast(1).mean[0, 0]
    assert mended == pytest.approx(0.75 * size / gap)


@pytest.mark.parametrize("kind", ["smoothing", "arima", "last_value", "local_level", "theta"])
def test_paths_of_several_series_keep_the_correlation_of_their_errors(kind: str) -> None:
    rng = np.random.default_rng(4)
    shocks = rng.multivariate_normal([0, 0, 0], [[1, 0.8, 0], [0.8, 1, 0], [0, 0, 1]], size=240)
    walks = 100 + np.cumsum(shocks, axis=0)
    panel = pt.Panel.from_arrays({key: walks[:, i] for i, key in enumerate("abc")}, "2000-01-01", "1 month")
    quick = {"arima": {"order": (0, 1, 0), "seasonal": (0, 0, 0)}, "smoothing": {"season": None, "trend": None}}
    fitted = pt.forecaster(kind, **quick.get(kind, {})).fit(panel)
    paths = fitted.contender.forecaster.simulate(fitted.state, panel, 240, 4, 6000, 0)
    together = np.corrcoef((paths[:, :, 0] - paths[:, :, 0].mean(axis=0)).T)
    assert together[0, 1] == pytest.approx(0.8, abs=0.12)
    assert abs(together[0, 2]) < 0.2
    single = fitted.contender.forecaster.simulate(fitted.state, panel.select([0]), 240, 4, 6000, 0)
    assert single[:, 0].std(axis=0) == pytest.approx(paths[:, 0].std(axis=0), rel=0.06)


@pytest.mark.usefixtures("by_theory")
@pytest.mark.parametrize("kind", ["local_level", "local_trend", "structural"])
def test_structural_ranges_equal_those_of_simulated_paths(kind: str) -> None:
    panel = pt.Panel.from_arrays({"a": np.log(AIRLINE)}, "1949-01-01", "1 month")
    fitted = pt.forecaster(kind).fit(panel)
    learner = fitted.contender.forecaster
    spread = learner.spreads_of(learner.learned(fitted.state, "a"), panel.values, 144, 14)
    paths = learner.simulate(fitted.state, panel, 144, 14, 8000, 3)[:, 0]
    assert paths.std(axis=0) / spread == pytest.approx(np.ones(14), abs=0.04)


def test_textbook_weights_are_taken_and_told_beside_those_of_the_state_space() -> None:
    """Holt and Winters by hand (Hyndman & Athanasopoulos 2021, § 8.3): each weight a share of its own update."""
    level_weight, trend_weight, season_weight = 0.4, 0.25, 0.3
    values, period = AIRLINE[:72], 12
    level, trend, season = 120.0, 1.0, list(np.linspace(-20, 20, period))
    stated = {"starts": "stated", "start_level": level, "start_trend": trend, "start_season": tuple(season)}
    means = []
    for at, value in enumerate(values):
        means.append(level + trend + season[at])
        before = level + trend
        level = level_weight * (value - season[at]) + (1 - level_weight) * before
        trend = trend_weight * (level - (before - trend)) + (1 - trend_weight) * trend
        season.append(season_weight * (value - level) + (1 - season_weight) * season[at])
    panel = pt.Panel.from_arrays({"a": values}, "1949-01-01", "1 month")
    form = {"error": "additive", "trend": "additive", "season": "additive", "damped": False}
    given = {"level_weight": level_weight, "trend_weight": trend_weight, "season_weight": season_weight}
    fitted = pt.forecaster("smoothing", **form, **given, **stated, weights_as="textbook").fit(panel)
    ahead = [level + (h + 1) * trend + season[len(values) + h] for h in range(12)]
    assert fitted.forecast(12).mean[0] == pytest.approx(ahead, rel=1e-9)
    told = fitted.parameters
    assert told["trend_weight"] == pytest.approx(0.1) and told["trend_weight_textbook"] == pytest.approx(0.25)
    assert told["season_weight"] == pytest.approx(0.18) and told["season_weight_textbook"] == pytest.approx(0.3)
    assert fitted.means(panel, np.arange(1, 72), 1)[0][0, :, 0] == pytest.approx(means[1:], rel=1e-9)
    with pytest.raises(pt.SettingsError, match="need a level weight"):
        pt.forecaster("smoothing", trend_weight=0.2, weights_as="textbook")


AIMS = {
    "squared": lambda gaps, values: np.sqrt(np.mean(gaps**2)),
    "absolute": lambda gaps, values: np.mean(np.abs(gaps)),
    "percentage": lambda gaps, values: 100 * np.mean(np.abs(gaps / values)),
}


@pytest.mark.parametrize("aim", AIMS)
def test_weights_are_the_best_by_the_error_that_is_aimed_at(aim: str, rng: np.random.Generator) -> None:
    """Against a fine grid of the one weight there is, from a stated start."""
    values = 80 + 0.4 * rng.normal(size=160).cumsum() + rng.standard_t(2, size=160)
    panel = pt.Panel.from_arrays({"a": values}, "2024-01-01", "1 day")
    settings = {"trend": "none", "season": "none", "error": "additive", "starts": "stated", "start_level": 80.0}
    fitted = pt.forecaster("smoothing", aim=aim, **settings).fit(panel)
    found = fitted.parameters["level_weight"]

    def error(weight: float) -> float:
        level, gaps = 80.0, []
        for value in values:
            gaps.append(value - level)
            level += weight * (value - level)
        return float(AIMS[aim](np.array(gaps), values))

    grid = np.linspace(0.001, 0.999, 2000)
    assert error(found) <= min(map(error, grid)) * (1 + 1e-6)
    assert error(found) < error(pt.forecaster("smoothing", **settings).fit(panel).parameters["level_weight"]) + 1e-9
    assert not np.isfinite(fitted.standard_errors.get("level_weight", np.nan))  # theory is of the likelihood
    (picture,) = fitted.contender.forecaster.pictures(fitted.state, panel, "a")
    lowest = picture.curves[0]
    assert lowest.y.min() == pytest.approx(error(lowest.x[lowest.y.argmin()]))
    assert picture.title.startswith({"squared": "Root", "absolute": "Mean abs", "percentage": "Mean absolute per"}[aim])


def test_every_form_is_moved_to_the_error_that_is_aimed_at_within_its_bounds() -> None:
    values = np.array(AIRLINE)
    for form in ("additive", "multiplicative"):
        for damped in (False, True):
            settings = {"error": form, "trend": "additive", "season": "multiplicative", "damped": damped}
            panel = pt.Panel.from_arrays({"a": values}, "1949-01", "1 month")
            errors = {}
            for aim in ("likelihood", "absolute"):
                fitted = pt.forecaster("smoothing", aim=aim, **settings).fit(panel)
                errors[aim] = aimed_error(values - np.asarray(fitted.fitted_values), values, "absolute")
                weights = fitted.parameters
                assert 0 <= weights["trend_weight"] <= weights["level_weight"] < 1
                assert 0 <= weights["season_weight"] <= 1 - weights["level_weight"]
            assert errors["absolute"] < errors["likelihood"]


def test_gaps_and_zeros_take_no_part_in_the_error_that_is_aimed_at() -> None:
    gaps, values = np.array([1.0, np.nan, -2.0, 4.0]), np.array([2.0, 5.0, -4.0, 0.0])
    assert aimed_error(gaps, values, "percentage") == 50.0
    assert aimed_error(gaps, values, "absolute") == pytest.approx(7 / 3)
    assert aimed_error(gaps, values, "squared") == pytest.approx(np.sqrt(7))
    assert np.isnan(aimed_error(gaps[1:2], values[1:2], "squared"))
    assert np.isnan(aimed_error(gaps[3:], values[3:], "percentage"))
