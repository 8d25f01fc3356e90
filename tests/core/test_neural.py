"""Network forecasters: whole architectures, reproducibility, early stopping, repeats, and what each can learn."""

import numpy as np
import pytest
from scipy import stats

import proteron as pt
from proteron.core.compiled import single_blas_thread
from proteron.core.errors import OutdatedError, SettingsError, StoppedError
from proteron.core.forecasters import FORECASTERS, Work
from proteron.core.forecasters.forecaster import Progress
from proteron.core.forecasters.networks import learned
from proteron.core.forecasters.networks.layout import Layout
from proteron.core.forecasters.networks.learned import LearnedNetwork
from proteron.core.forecasters.networks.straight import straight_start
from proteron.core.forecasters.neural import training
from proteron.core.forecasters.neural.rows import plain_rows
from proteron.core.forecasters.window_forecaster import chronological_split, instead_of, with_instead
from proteron.core.judge.cell import Fit
from proteron.core.panel import Panel
from proteron.core.windows import WindowPlan
from quick import QUICK

NETWORKS = [each.model_fields["kind"].default for each in FORECASTERS if issubclass(each, LearnedNetwork)]


def small(kind: str, **more: object) -> pt.Contender:
    settings = {name: value for name, value in QUICK[kind].items() if name != "lags"}
    return pt.forecaster(kind, **{"epochs": 4, **settings, **more})


def test_all_of_them_are_here() -> None:
    assert len(NETWORKS) == 8


@pytest.mark.parametrize("kind", NETWORKS)
def test_the_gradient_of_a_whole_architecture_is_that_of_differences(kind: str, rng: np.random.Generator) -> None:
    """Where a rectifier or a largest value turns, there is no gradient: few inputs lie there."""
    window = 0 if not small(kind).forecaster.reads_window else 9
    direct = rng.normal(size=(12, 3))
    network = small(kind).forecaster.build(Layout(window, 12 - window, 3, direct, rng.normal(size=3)))
    parameters = network.begin(rng)
    assert any(np.isin(direct.ravel()[:3], parameters))
    parameters += 0.1 * rng.normal(size=network.count)
    rows = plain_rows(rng.normal(size=(3, 12)), rng.normal(size=(3, 3)), np.ones(3))
    lesson = training.Lesson(network, parameters, training.Recipe(), rng)
    lesson.gradient_of(rows, np.arange(3))
    found, exact = lesson.gradient.copy(), np.empty(network.count)
    for place in range(network.count):
        kept, ends = parameters[place], []
        for sign in (1, -1):
            parameters[place] = kept + sign * 1e-6
            ends.append(lesson.gradient_of(rows, np.arange(3)))
        parameters[place] = kept
        exact[place] = (ends[0] - ends[1]) / 2e-6
    assert np.abs(found - exact).max() <= 1e-6 * np.abs(exact).max()


@pytest.mark.parametrize("kind", NETWORKS)
def test_training_is_the_same_to_the_bit_and_changes_with_the_seed(kind: str, hourly: Panel) -> None:
    model = small(kind, epochs=2, repeats=2)
    first, second, other = (model.fit(hourly, until=1200, horizon=6, seed=seed) for seed in (7, 7, 8))
    kept = [each.state.arrays["parameters"] for each in (first, second, other)]
    assert kept[0].tobytes() == kept[1].tobytes() != kept[2].tobytes()
    assert first.state.facts["losses"] == second.state.facts["losses"] and kept[0].shape[0] == 2
    assert first.forecast(6).mean.tobytes() == second.forecast(6).mean.tobytes()


def test_repeats_are_those_of_their_seeds_whoever_trains_them(hourly: Panel, monkeypatch: pytest.MonkeyPatch) -> None:
    fitted = {}
    for cores in (1, 2):
        monkeypatch.setattr(learned.os, "cpu_count", lambda cores=cores: cores)
        model = small("recurrent_network", repeats=3, average="median")
        fitted[cores] = model.fit(hourly, until=1000, horizon=4, seed=1)
    one, two = fitted[1].state, fitted[2].state
    assert one.arrays["parameters"].tobytes() == two.arrays["parameters"].tobytes()
    assert len({each.tobytes() for each in one.arrays["parameters"]}) == 3
    forecaster = fitted[1].contender.forecaster
    features = np.random.default_rng(1).normal(size=(5, len(one.facts["names"])))
    told = forecaster.answers_of(one, features)
    np.testing.assert_array_equal(forecaster.predict(one, features, np.zeros(5, dtype=int)), np.median(told, axis=0))
    best = one.facts["best"]
    told = fitted[1].parameters["north"]
    assert [told[f"validation_loss{end}"] for end in ("_lowest", "", "_highest")] == sorted(best)
    assert "the median of 3 repeats" in fitted[1].summary["north"]


def test_early_stopping_keeps_the_best_weights_of_the_last_part(hourly: Panel) -> None:
    model = pt.forecaster("dense_network", hidden=[32], epochs=60, patience=3, learning_rate=0.02, line=False)
    fitted = model.fit(hourly, until=900, horizon=2)
    told = model.forecaster.training(fitted.state)
    losses = told.validation_loss
    assert told.kept_epoch == int(np.argmin(losses)) + 1  # counted from 1, as in words
    assert fitted.state.facts["best"] == [min(losses)]
    assert f"epoch {told.kept_epoch} of {len(losses)} kept" in str(fitted.summary)
    assert len(losses) == 60 or len(losses) - told.kept_epoch == 3
    table = model.forecaster.resolved_plan(hourly.cut_at(900), 2).cut(hourly.cut_at(900))
    train, held_out = chronological_split(table, model.forecaster.validation, "x")
    assert (
        table.positions[train].max() + 2 <= table.positions[held_out].min()
    )  # no target reaches into what is held out
    assert not (train & held_out).any()


def test_it_learns_what_a_line_cannot(rng: np.random.Generator) -> None:
    x = np.zeros(3000)
    for t in range(2, 3000):
        x[t] = 1 - 1.7 * x[t - 1] ** 2 + 0.02 * rng.normal()
    panel = Panel.from_arrays({"a": x}, "2020-01-01", "1h")
    origins = np.arange(2500, 2990)
    errors = {}
    for name, more in (
        ("ridge", {}),
        ("dense_network", {"epochs": 40, "hidden": [24]}),
        ("autoregressive_network", {}),
    ):
        state = pt.forecaster(name, lags=[1, 2], strategy="recursive", **more).fit(panel, until=2500)
        errors[name] = np.sqrt(np.mean((state.means(panel, origins, 1)[0][0, :, 0] - x[origins]) ** 2))
    assert max(errors["dense_network"], errors["autoregressive_network"]) < 0.5 * errors["ridge"]


@pytest.mark.parametrize("kind", ["dilated_network", "recurrent_network", "attention_network"])
def test_what_lies_far_back_is_found(kind: str, rng: np.random.Generator) -> None:
    """The next value is minus what was 40 points ago where that is above one, else nothing: no short window tells."""
    x = np.zeros(6000)
    for t in range(6000):
        far = x[t - 40] if t >= 40 else 0.0
        x[t] = (-far if abs(far) > 1 else 0.0) + rng.normal()
    panel = Panel.from_arrays({"a": x}, "2020-01-01", "1h")
    origins = np.arange(5000, 5990)
    errors = {}
    for name, lags in ((kind, range(1, 49)), ("dense_network", range(1, 25))):
        state = pt.forecaster(name, lags=list(lags), strategy="recursive", loss="squared").fit(panel, until=5000)
        errors[name] = np.mean((state.means(panel, origins, 1)[0][0, :, 0] - x[origins]) ** 2)
    assert errors[kind] < 0.85 * errors["dense_network"], errors


def test_a_window_s_own_level_is_followed_where_a_series_leaves_its_own(rng: np.random.Generator) -> None:
    values = np.arange(1500) * 0.5 + 10 * np.sin(np.arange(1500) * np.pi / 12) + rng.normal(size=1500)
    panel = Panel.from_arrays({"a": values}, "2020-01-01", "1h")
    errors = {}
    for level in ("series", "window"):
        model = pt.forecaster("basis_network", level=level, epochs=15).fit(panel, until=1200, horizon=24)
        errors[level] = np.abs(model.forecast(24).mean[0] - values[1200:1224]).mean()
    assert errors["window"] < 0.5 * errors["series"]


def noisy(count: int, rng: np.random.Generator) -> np.ndarray:
    """Values whose spread depends on the hour."""
    hours = np.arange(count)
    spread = np.where(hours % 24 < 12, 0.4, 2.0)
    return 20 + 5 * np.sin(2 * np.pi * hours / 24) + spread * rng.normal(size=count)


@pytest.mark.parametrize("loss", ["quantiles", "gaussian"])
@pytest.mark.parametrize("kind", ["dense_network", "basis_network"])
def test_learned_ranges_hold_what_they_say_and_know_the_hour(loss: str, kind: str, rng: np.random.Generator) -> None:
    panel = Panel.from_arrays({"a": noisy(26_000, rng)}, "2020-01-01", "1h")
    levels = (0.5, 0.8, 0.95)
    work = Work(horizon=3, seed=1, levels=levels)
    model = pt.forecaster(kind, loss=loss, lags=list(range(1, 26)), calendar=["hour_of_day"], epochs=12, repeats=2)
    fitted = model.fit(panel, until=5000, work=work)
    origins = np.arange(5000, 25_000)
    flat = fitted.means(panel, origins, 3)[1]
    ends = fitted.ranges(panel, origins, flat, levels, np.zeros((0, 1, 3)))
    truth = panel.values[origins[:, None] + np.arange(3)]
    for place, level in enumerate(levels):
        low, high = ends[place, :, 0]
        assert (low <= high).all() and np.abs(((low <= truth) & (truth <= high)).mean() - level) < 0.02, level
    width = (ends[1, 1, 0, :, 0] - ends[1, 0, 0, :, 0])[: 24 * 800].reshape(800, 24).mean(axis=0)
    quiet = origins[:24] % 24 < 12
    assert width[~quiet].mean() > 2.5 * width[quiet].mean()
    assert (np.diff(ends[::-1, 0], axis=0) >= 0).all() and (np.diff(ends[:, 1], axis=0) >= 0).all()  # none crosses
    assert fitted.has_theory and fitted.forecast(3, levels).lower[0.95][0, 0] < fitted.forecast(3, levels).mean[0, 0]
    learner = model.forecaster
    told = learner.influence(fitted.state, panel.cut_at(5000), "a", 2)
    assert told is not None and told.forecast == pytest.approx(fitted.forecast(3).mean[0, 1], rel=1e-3)
    assert learner.ranges(fitted.state, panel, origins[:2], 4, levels) is None
    early = np.array([3, 5000])  # from the first no window is complete
    known = panel.cut_at(5000)
    assert np.isnan(learner.ranges(fitted.state, known, early, 3, levels)[0, 0, 0, :, 0]).tolist() == [True, False]
    assert np.isnan(learner.means(fitted.state, known, early[:1], 3)).all()
    assert (learner.ranges(fitted.state, panel, origins[:2], 3, (0.7,)) is None) == (loss == "quantiles")


def test_a_network_that_reads_a_window_wants_the_latest_points(hourly: Panel) -> None:
    with pytest.raises(SettingsError, match="latest points one after the other"):
        pt.forecaster("recurrent_network", lags=[2, 3, 24]).fit(hourly, until=900, horizon=2)
    fitted = small("recurrent_network", lags=[1, 2, 3, 24]).fit(hourly, until=900, horizon=2)
    assert fitted.state.facts["window"] == 3 and fitted.state.facts["order"][:4] == [2, 1, 0, 3]


def test_training_can_be_stopped_and_says_how_far_it_is(hourly: Panel) -> None:
    told: list[Progress] = []

    def stop() -> bool:
        return len(told) == 5

    work = Work(horizon=2, stop_asked=stop, report=told.append)
    with pytest.raises(StoppedError), single_blas_thread():
        pt.forecaster("dense_network", patience=60).fit(hourly, work=work)
    assert [each.share for each in told] == pytest.approx([place / 60 for place in range(1, 6)])
    assert told[4].about.startswith("epoch 5: ") and "held out" in told[4].about
    assert len(told[4].learned) == len(told[4].held_out) == 5 and told[3].learned == told[4].learned[:4]


def test_what_an_earlier_version_learned_in_another_form_is_refused_with_a_reason(hourly: Panel) -> None:
    old = Fit("k", {}, {"sizes": [3, 2, 1]}, {"parameters": np.zeros(3)}, np.ones(1))
    network, ridge = pt.forecaster("dense_network"), pt.forecaster("ridge")
    assert old.read_by(ridge) and not old.read_by(network)
    with pytest.raises(OutdatedError, match="kept by an earlier version"):
        old.fitted(network, hourly, 900)
    now = small("dense_network").fit(hourly, until=900, horizon=2).state.facts
    assert Fit("k", {}, now, {}, np.ones(1)).read_by(network)


def test_where_nothing_but_a_line_is_there_the_line_it_began_as_is_kept(rng: np.random.Generator) -> None:
    """A network that has nothing to learn beyond the straight line forecasts as that."""
    values = np.zeros(600)
    for at in range(2, 600):
        values[at] = 1.2 * values[at - 1] - 0.5 * values[at - 2] + rng.normal()
    panel = Panel.from_arrays({"a": values + 50}, "2020-01-01", "1h")
    model = pt.forecaster("dense_network", lags=[1, 2], level="series", learning_rate=1.0, epochs=3, batch=8)
    fitted = model.fit(panel, horizon=1)
    told = fitted.contender.forecaster.training(fitted.state)
    assert told.kept_epoch == 0 and "what it began as, no epoch of 3 kept" in fitted.summary
    assert fitted.forecast(1).mean[0, 0] == pytest.approx(50 + 1.2 * values[-1] - 0.5 * values[-2], abs=0.4)


def test_a_straight_line_begins_as_ridge_or_as_what_is_obvious(rng: np.random.Generator) -> None:
    inputs, weights = rng.normal(size=(600, 4)), np.ones(600)
    base = np.zeros((4, 2))
    base[0] = 1.0
    slopes = np.array([[1.0, 0.5], [0, 2.0], [0, 0], [-1, 0]])
    targets = inputs @ slopes + [3.0, -1.0] + 0.1 * rng.normal(size=(600, 2))
    targets[::50] += 100  # a few that are far off weigh little
    early, late = (plain_rows(inputs[part], targets[part], weights[part]) for part in (slice(500), slice(501, 549)))
    found = straight_start(early, late, np.full(48, 2.0), base)
    np.testing.assert_allclose(found.slopes, slopes, atol=0.1)
    np.testing.assert_allclose(found.biases, [3, -1], atol=0.3)
    assert found.error == pytest.approx(2 * 0.1 * np.sqrt(2 / np.pi), rel=0.5)
    noise = plain_rows(early.inputs, early.inputs @ base + rng.normal(size=(500, 2)), weights[:500])
    turned = plain_rows(late.inputs, late.inputs @ base, weights[:48])
    kept = straight_start(noise, turned, np.ones(48), base)
    assert kept.error == 0 and (kept.slopes == base).all() and (kept.biases == 0).all()


def test_centring_is_chosen_by_what_a_line_errs(rng: np.random.Generator) -> None:
    moving = np.exp(np.cumsum(0.02 + 0.01 * rng.normal(size=400)))
    chosen = {}
    for name, values in (("moving", moving), ("still", 5 + rng.normal(size=400))):
        model = pt.forecaster("dense_network", epochs=1)
        chosen[name] = model.fit(Panel.from_arrays({"a": values}, "2020-01-01", "1d"), horizon=7).state.facts["level"]
    assert chosen["moving"] == "window" and chosen["still"] in ("series", "window")
    with pytest.raises(SettingsError):
        pt.forecaster("dense_network", level="whatever")


@pytest.mark.parametrize("kind", ["dense_network", "boosted_trees"])
def test_a_series_too_short_for_a_whole_window_is_forecast_by_what_others_taught(kind: str, rng) -> None:
    season = np.tile([0.0, 4, 8, 3, -2, -6, -7], 60)
    short = 100 + 10 * (season[409:420] + 0.1 * rng.normal(size=11))
    panel = Panel.from_arrays(
        {"long": season + 0.1 * rng.normal(size=420), "short": np.r_[np.full(409, np.nan), short]}, "2020-01-01", "1d"
    )
    more = {"epochs": 5} if kind == "dense_network" else {"trees": 40, "lags": range(1, 17)}
    fitted = pt.forecaster(kind, **more).fit(panel, horizon=7)
    assert WindowPlan.parse(fitted.state.facts["plan"]).look_back > 9
    found = fitted.forecast(7).mean[1]
    assert np.abs(found - (100 + 10 * season[np.arange(420, 427) % 7])).mean() < 0.4 * short.std()
    early = fitted.means(panel, np.array([9]), 7)[0]
    assert np.isnan(early[0]).all()  # a long one waits for whole windows


def test_missing_lags_are_those_of_a_season_later_or_the_first() -> None:
    panel = Panel.from_arrays({"a": np.arange(100.0)}, "2020-01-01", "1d")
    plan = WindowPlan(lags=[1, 2, 8, 9, 10, 15], rolling=[pt.windows.Rolling("mean", 7)])
    instead = instead_of(plan, panel)
    assert instead.tolist() == [0, 0, 0, 1, 0, 2, 6]
    row = np.array([[1.0, 2, np.nan, np.nan, 5, np.nan, np.nan]])
    np.testing.assert_array_equal(with_instead(row, instead), [[1, 2, 1, 2, 5, 1, np.nan]])


def test_counts_are_forecast_with_ranges_that_hold(rng: np.random.Generator) -> None:
    mean = 3 + 2.5 * np.sin(np.arange(14_000) * 2 * np.pi / 24)
    values = rng.negative_binomial(2, 2 / (2 + mean)).astype(float)
    panel = Panel.from_arrays({"a": values}, "2020-01-01", "1h")
    model = pt.forecaster("dense_network", loss="negative_binomial", epochs=15)
    fitted = model.fit(panel, until=4000, horizon=2)
    origins = np.arange(4000, 13_900)
    means, flat = fitted.means(panel, origins, 2)
    truth = values[origins[:, None] + np.arange(2)]
    assert np.abs(means[0] - mean[origins[:, None] + np.arange(2)]).mean() < 0.5
    ends = fitted.ranges(panel, origins, flat, (0.8,), np.zeros((0, 1, 2)))[0, :, 0]
    exact = stats.nbinom.ppf([[[0.1]], [[0.9]]], 2, 2 / (2 + mean[origins[:, None] + np.arange(2)]))
    held, wanted = (((low <= truth) & (truth <= high)).mean() for low, high in (ends, exact))
    assert abs(held - wanted) < 0.02 and ends.min() >= -1e-9 and np.abs(ends - np.round(ends)).max() < 1e-9
    with pytest.raises(pt.InputError, match="negative"):
        model.fit(Panel.from_arrays({"a": values - 5}, "2020-01-01", "1h"), until=400, horizon=2)


@pytest.mark.parametrize("kind", ["dense_network", "recurrent_network", "basis_network", "autoregressive_network"])
def test_categories_have_numbers_of_their_own(kind: str, rng: np.random.Generator) -> None:
    """What a category adds has no order: read as a number it cannot be told by a line."""
    adds = np.array([5.0, -5, 4, -3, 0, 6, -6])
    panel = Panel.from_arrays({"a": adds[np.arange(900) % 7] + 0.1 * rng.normal(size=900)}, "2024-01-01", "1d")
    number = [pt.windows.CalendarCycle(field="weekday", form="number")]
    errors = {}
    for width in (0, 4):
        model = pt.forecaster(kind, lags=[1, 2], more=number, embedding=width, repeats=1, epochs=25)
        fitted = model.fit(panel, until=800, horizon=1)
        assert fitted.state.facts["categories"] == ([[2, 7]] if width else [])
        errors[width] = np.abs(fitted.means(panel, np.arange(800, 899), 1)[0][0, :, 0] - panel["a"][800:899]).mean()
        again = fitted.contender.forecaster.influence(fitted.state, panel.cut_at(800), "a", 1)
        assert again is not None and again.forecast == pytest.approx(fitted.forecast(1).flat_mean[0, 0], rel=1e-3)
    assert errors[4] < errors[0] + 0.05, errors


def test_attention_copies_from_the_place_another_column_names(rng: np.random.Generator) -> None:
    """What comes next is one of the last eight values; which one, only a column tells."""
    count = 9000
    place = rng.integers(1, 9, count).astype(float)
    x = rng.normal(size=count)
    for t in range(8, count, 2):
        x[t] = x[t - int(place[t])]
    panel = Panel.from_arrays({"a": x}, "2020-01-01", "1h", covariates={"place": ("known_ahead", {"a": place})})
    column = [pt.windows.CovariateSteps(column="place", at=[1])]
    origins = np.arange(8000, 8990, 2)
    settings = {"lags": list(range(1, 9)), "covariates": column, "strategy": "recursive", "stride": 2}
    model = pt.forecaster("attention_network", piece=1, loss="squared", epochs=40, patience=15, **settings)
    fitted = model.fit(panel, until=8000)
    error = np.mean((fitted.means(panel, origins, 1)[0][0, :, 0] - x[origins]) ** 2)
    assert error < 0.1 * np.var(x[origins]), error


@pytest.mark.parametrize("kind", NETWORKS)
def test_a_fit_begun_again_is_the_same_to_the_bit(kind: str, hourly: Panel) -> None:
    """Stopped half way and begun anew, nothing of the first attempt is left in it."""
    model, calls = small(kind, epochs=3, repeats=2), [0]

    def stop() -> bool:
        calls[0] += 1
        return calls[0] > 4

    with pytest.raises(StoppedError):
        model.fit(hourly, until=900, work=Work(horizon=4, seed=2, stop_asked=stop))
    again, whole = (model.fit(hourly, until=900, horizon=4, seed=2) for _ in range(2))
    assert again.state.arrays["parameters"].tobytes() == whole.state.arrays["parameters"].tobytes()


def test_paths_of_a_network_that_is_fed_back_carry_its_errors_along(rng: np.random.Generator) -> None:
    """Of a first-order autoregression, whose spread ahead is known; two series that err together end together."""
    shocks = rng.normal(size=2000)
    a, b = np.zeros(2000), np.zeros(2000)
    for t in range(1, 2000):
        a[t], b[t] = 0.8 * a[t - 1] + shocks[t], 0.8 * b[t - 1] + 2 * shocks[t]
    panel = Panel.from_arrays({"a": 50 + a, "b": 200 + b}, "2020-01-01", "1h")
    model = pt.forecaster("autoregressive_network", lags=[1, 2], repeats=2, epochs=10)
    forecast = model.fit(panel, until=1900).forecast(12, levels=(0.8,))
    spread = np.sqrt((1 - 0.64 ** np.arange(1, 13)) / 0.36)
    paths = forecast.paths(400, seed=1)
    np.testing.assert_allclose(paths[:, 0].std(axis=0), spread, rtol=0.2)
    assert np.corrcoef(paths[:, 0, -1], paths[:, 1, -1])[0, 1] > 0.9
    width = (forecast.upper[0.8] - forecast.lower[0.8])[0]
    np.testing.assert_allclose(width, 2 * 1.2816 * spread, rtol=0.25)
    again = model.fit(panel, until=1900).forecast(12, levels=(0.8,)).paths(400, seed=1)
    assert paths.tobytes() == again.tobytes()
    alone = model.model_copy(update={"forecaster": model.forecaster.model_copy(update={"strategy": "direct"})})
    assert "errors" not in alone.fit(panel, until=1900, horizon=3).state.arrays
