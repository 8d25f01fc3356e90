"""What a forecaster prints as its equation is what it forecasts, for every feature there is."""

from dataclasses import replace

import numpy as np
import pytest
from feature_settings import SETTINGS, plan_with

import proteron as pt
from proteron.core.forecasters import FORECASTERS
from proteron.core.forecasters.window_forecaster import WindowForecaster
from proteron.core.panel import Panel
from proteron.core.windows import Feature

LEARNERS = [each for each in FORECASTERS if issubclass(each, WindowForecaster) and each.prints_equation]
FEATURES = [feature for of_kind in SETTINGS.values() for feature in of_kind if not feature.unit_bound]
BOUND = [feature for of_kind in SETTINGS.values() for feature in of_kind if feature.unit_bound]


@pytest.fixture(scope="module")
def far_off() -> Panel:
    """Two series far from zero, so that a unit taken for another shows."""
    rng = np.random.default_rng(8)
    waves = np.sin(np.arange(400) / 5) + rng.normal(size=(2, 400))
    series = {"a": 1000 + 30 * waves[0], "b": -5000 + 7 * waves[1]}
    panel = Panel.from_arrays(
        series, "2024-01-01", "1h",
        covariates={"weather": {"a": rng.normal(size=400), "b": rng.normal(size=400)},
                    "size": ("static", {"a": 1.0, "b": 2.0})},
    )  # fmt: skip
    return replace(panel, occasions=(pt.core.panel.Occasion("closed", 100, 110),))


@pytest.mark.parametrize("learner", LEARNERS, ids=lambda each: each.title)
@pytest.mark.parametrize("feature", FEATURES, ids=lambda each: each.names[0])
def test_the_printed_equation_is_the_forecast(learner: type, feature: Feature, far_off: Panel) -> None:
    model = pt.forecaster(learner.model_fields["kind"].default, **plan_with(feature))
    fitted = model.fit(far_off, until=350, horizon=3)
    plan = pt.WindowPlan.parse(fitted.state.facts["plan"])
    origins = np.array([340, 350, 371])
    forecast = fitted.means(far_off, origins, 3)[0]
    scaled = far_off.with_values(
        (far_off.values - np.repeat(fitted.state.arrays["level"], 400)) / np.repeat(fitted.state.arrays["spread"], 400)
    )
    for index, key in enumerate(far_off.keys):
        found = model.forecaster.equation(fitted.state, key)
        assert found.names == plan.names
        points, series = far_off.offsets[index] + origins - 1, np.full(3, index)
        plain, standing = (plan.write(plan.rows_at(each, points, series)) for each in (far_off, scaled))
        features = np.where(found.as_scaled, standing, plain)
        np.testing.assert_allclose(features @ found.slopes + found.intercept, forecast[index], rtol=1e-9)
        first = model.forecaster.parameters(fitted.state, key)
        by_hand = first["intercept"] + sum(
            first[name] * cell for name, cell in zip(plan.names, features[0], strict=True)
        )
        assert by_hand == pytest.approx(forecast[index, 0, 0], rel=1e-9)


@pytest.mark.parametrize("feature", BOUND, ids=lambda each: each.names[0])
def test_what_means_something_else_when_scaled_is_refused(feature: Feature, far_off: Panel) -> None:
    with pytest.raises(pt.SettingsError, match="in their own unit"):
        pt.forecaster("ridge", **plan_with(feature)).fit(far_off)


OF_ONE_SERIES = [each for each in FEATURES if not any(unit.as_scaled for unit in each.units)]


@pytest.mark.parametrize("feature", OF_ONE_SERIES, ids=lambda each: each.names[0])
def test_units_say_how_a_column_follows_its_series(feature: Feature, far_off: Panel) -> None:
    """Values moved by a level and stretched by a spread move and stretch each column as it declares."""
    level, spread = -70.0, 3.0
    moved = far_off.with_values(level + spread * far_off.values)
    plan = pt.WindowPlan(**plan_with(feature))
    assert len(plan.units) == len(plan.names)
    before, after = (plan.cut(each, targets=False).features for each in (far_off, moved))
    follows = np.array([unit.moves * level for unit in plan.units])
    scale = np.array([spread if unit.scales else 1.0 for unit in plan.units])
    np.testing.assert_allclose(after, follows + scale * before, rtol=1e-9, atol=1e-9)
