"""Additive parts against series that were put together from known ones; pictures and checks of what was learned."""

import numpy as np
import pytest

import proteron as pt
from proteron.core.forecasters import FittedContender
from proteron.core.forecasters.explain import fit_pictures, joint_picture, one_step, residual_checks
from proteron.core.panel import Occasion


def put_together(rng: np.random.Generator, count: int = 600) -> tuple[pt.Panel, dict[str, np.ndarray]]:
    t = np.arange(count + 60.0)
    parts = {
        "trend": 50 + 0.05 * t - 0.08 * np.maximum(t - 300, 0),
        "season 7": 4 * np.sin(2 * np.pi * t / 7) + 2 * np.cos(4 * np.pi * t / 7),
        "occasions": 9.0 * (t % 50 == 20),
    }
    heat = rng.normal(size=count + 60)
    whole = sum(parts.values()) + 1.5 * heat
    values = whole[:count] + 0.5 * rng.normal(size=count)
    panel = pt.Panel.from_arrays(
        {"a": values}, "2022-01-03", "1 day", covariates={"heat": ("known_ahead", {"a": heat})}
    )
    occasions = tuple(Occasion("fair", k * 50 + 20, k * 50 + 21) for k in range(14))
    fields = {name: getattr(panel, name) for name in panel.__dataclass_fields__} | {"occasions": occasions}
    return pt.Panel(**fields), parts | {"whole": np.asarray(whole)}


def test_parts_are_told_apart_and_go_on(rng: np.random.Generator) -> None:
    panel, truth = put_together(rng)
    fitted = pt.forecaster("additive", periods=(7.0,), covariates=("heat",)).fit(panel)
    assert fitted.parameters["fair"] == pytest.approx(9, abs=0.6)
    assert fitted.parameters["heat"] == pytest.approx(1.5, abs=0.1)
    parts = fitted.contender.forecaster.components(fitted.state, panel, "a")
    assert np.abs(parts["season 7"][0] - truth["season 7"][:600]).max() < 0.4
    assert np.abs(parts["trend"][0] - truth["trend"][:600]).mean() < 0.6
    inside = np.abs(parts["season 7"][0] - truth["season 7"][:600]) < 3 * parts["season 7"][1]
    assert inside.mean() > 0.9
    whole = sum(mean for mean, _ in parts.values())
    np.testing.assert_allclose(whole, fitted.means(panel, np.array([0]), 600)[0][0, 0], rtol=1e-9)
    forecast = fitted.forecast(40, levels=(0.95,))
    assert np.abs(forecast.mean[0] - truth["whole"][600:640]).mean() < 1.5
    covered = (forecast.lower[0.95][0] <= truth["whole"][600:640]) & (
        truth["whole"][600:640] <= forecast.upper[0.95][0]
    )
    assert covered.mean() > 0.85
    widths = forecast.upper[0.95][0] - forecast.lower[0.95][0]
    assert widths[-1] > widths[0]


def test_floor_ceiling_and_multiplied_seasons(rng: np.random.Generator) -> None:
    t = np.arange(300.0)
    share = 100 / (1 + np.exp(-0.03 * (t - 150)))
    panel = pt.Panel.from_arrays({"a": share + rng.normal(scale=0.5, size=300)}, "2022-01-03", "1 day")
    settings = {"periods": (7.0,), "floor": 0.0, "ceiling": 102.0, "knots": 3}
    forecast = pt.forecaster("additive", **settings).fit(panel).forecast(100, levels=(0.95,))
    assert (forecast.upper[0.95] <= 102).all() and forecast.mean[0, -1] > 97
    grown = np.exp(0.01 * t) * (1 + 0.4 * np.sin(2 * np.pi * t / 7)) * np.exp(0.02 * rng.normal(size=300))
    growing = pt.Panel.from_arrays({"a": grown[:280]}, "2022-01-03", "1 day")
    ahead = pt.forecaster("additive", periods=(7.0,), season="multiplicative").fit(growing).forecast(20).mean[0]
    np.testing.assert_allclose(ahead, grown[280:], rtol=0.15)
    with pytest.raises(pt.SettingsError, match="above the floor"):
        pt.forecaster("additive", floor=5, ceiling=2)


def test_outliers_leave_the_parts_alone(rng: np.random.Generator) -> None:
    panel, truth = put_together(rng)
    spoiled = panel.values.copy()
    spoiled[rng.integers(0, 600, 20)] += 200
    for robust, most in ((True, 2.0), (False, 1e9)):
        fitted = pt.forecaster("additive", periods=(7.0,), covariates=("heat",), robust=robust)
        off = np.abs(fitted.fit(panel.with_values(spoiled)).forecast(14).mean[0] - truth["whole"][600:614]).mean()
        assert off < most
        if not robust:
            assert off > 2.0


def verdicts_on(fitted: FittedContender, panel: pt.Panel) -> dict[str, bool]:
    return {what: not test.rejected for what, test in residual_checks(one_step(fitted, panel, "a", 0, panel.end), 7)}


def test_pictures_show_the_optimum_and_checks_speak_of_residuals(rng: np.random.Generator) -> None:
    level = np.cumsum(rng.normal(size=300)) + 3 * rng.normal(size=300)
    panel = pt.Panel.from_arrays({"a": level}, "2022-01-03", "1 day")
    fitted = pt.forecaster("smoothing", error="additive", trend=None, season=None).fit(panel)
    picture = fitted.contender.forecaster.pictures(fitted.state, panel, "a")[0]
    curve = picture.curves[0]
    assert curve.x[curve.y.argmin()] == pytest.approx(fitted.parameters["level_weight"], abs=0.02)
    assert {label: x for x, label in picture.marks}["level"] == fitted.parameters["level_weight"]
    verdicts = {
        what: not test.rejected for what, test in residual_checks(one_step(fitted, panel, "a", 0, panel.end), 7)
    }
    assert verdicts["no memory left"] and set(verdicts) >= {"no memory left", "normal", "even spread"}
    lagging = pt.forecaster("smoothing", error="additive", trend=None, season=None, level_weight=0.02).fit(panel)
    assert not {
        what: not test.rejected for what, test in residual_checks(one_step(lagging, panel, "a", 0, panel.end), 7)
    }["no memory left"]
    waves = pt.Panel.from_arrays(
        {"a": np.sin(np.arange(200) * 2 * np.pi / 7) + level[:200] / 50}, "2022-01-03", "1 day"
    )
    kept = pt.forecaster("last_value").fit(waves)
    assert not verdicts_on(kept, waves)["no season left"]
    model = pt.forecaster("arima", order=(2, 0, 1), seasonal=(0, 0, 0)).fit(panel)
    roots = model.contender.forecaster.pictures(model.state, panel, "a")[0]
    assert [curve.label for curve in roots.curves] == ["unit circle", "AR", "MA"]
    assert all((curve.x**2 + curve.y**2 < 1).all() for curve in roots.curves[1:])
    additive = pt.forecaster("additive", periods=(7.0,)).fit(panel)
    titles = [each.title for each in additive.contender.forecaster.pictures(additive.state, panel, "a")]
    assert titles == ["Trend", "Season 7"]


def test_errors_inside_and_after_the_cutoff_stand_apart_and_joint_paths_go_together() -> None:
    rng = np.random.default_rng(3)
    shocks = rng.multivariate_normal([0, 0, 0], [[1, 0.9, 0], [0.9, 1, 0], [0, 0, 1]], size=240)
    panel = pt.Panel.from_arrays({key: shocks[:, i].cumsum() for i, key in enumerate("abc")}, "2020-01-01", "1 day")
    fitted = pt.forecaster("arima", order=(0, 1, 0), seasonal=(0, 0, 0)).fit(panel, until=200)
    steps = one_step(fitted, panel, "b", 0, 230)
    moves = np.diff(panel["b"])
    assert steps.error(after=False) == pytest.approx(np.sqrt((moves[:199] ** 2).mean()))
    assert steps.error(after=True) == pytest.approx(np.sqrt((moves[199:229] ** 2).mean()))
    assert steps.error_of_last_value == pytest.approx(steps.error(after=True))  # the model is the last value
    grown = panel.with_values(np.exp(panel.values / 10))
    logged = pt.forecaster("last_value", chain=pt.Chain([pt.flatten.Log()])).fit(grown, until=200)
    behind = one_step(logged, grown, "b", 0, 230)
    assert behind.error(after=True, flat=True) == pytest.approx(np.sqrt((moves[199:229] ** 2).mean()) / 10)
    assert behind.error(after=True) == pytest.approx(np.sqrt((np.diff(grown["b"])[199:229] ** 2).mean()))
    against, rest = fit_pictures(steps)
    assert [curve.label for curve in against.curves] == ["equal", "learned", "after the cutoff"]
    assert rest.curves[1].x.tolist() == list(range(30))
    joint = joint_picture(fitted, panel, "b", 0, 5)
    assert joint is not None and joint.title == "Paths 5 steps on, with a"
    apart, together = (np.corrcoef(curve.x, curve.y)[0, 1] for curve in joint.curves)
    assert together > 0.75 and abs(apart) < 0.25
    alone = pt.forecaster("arima", order=(0, 1, 0), seasonal=(0, 0, 0)).fit(panel.select([0]))
    assert joint_picture(alone, panel.select([0]), "a", 0, 5) is None
