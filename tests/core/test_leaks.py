"""The leak check over the registries: whatever is added later is caught here."""

import numpy as np
import pytest
from feature_settings import SETTINGS, plan_with

import proteron as pt
from proteron.core.flatten import STAGES
from proteron.core.forecasters import FORECASTERS
from proteron.core.leak_check import CORRUPTIONS, corrupt_future
from proteron.core.panel import Panel
from proteron.core.windows import FEATURES, CovariateSteps, Rolling, WindowPlan
from quick import QUICK

STAGE_SETTINGS = {"seasonal_difference": {"period": 24}}


@pytest.mark.parametrize("stage", STAGES, ids=lambda stage: stage.title)
def test_no_stage_learns_from_the_future(stage: type, hourly: Panel) -> None:
    kind = stage.model_fields["kind"].default
    chain = pt.Chain([stage(**STAGE_SETTINGS.get(kind, {}))])
    proof = pt.leak_check(hourly, WindowPlan(lags=[1, 2, 24]), chain=chain, origins=5)
    assert proof.passed, proof.evidence


@pytest.mark.parametrize("feature", FEATURES, ids=lambda feature: feature.__name__)
def test_no_feature_reads_the_future(feature: type, hourly: Panel) -> None:
    given = {column.name: (column.role, {key: column.series(i) for i, key in enumerate(hourly.keys)})
             for column in hourly.covariates}  # fmt: skip
    panel = Panel.from_arrays(
        {key: hourly[key] for key in hourly}, {key: hourly.times(key)[0] for key in hourly}, "1h", "Europe/Lisbon",
        covariates=given | {"size": ("static", {"north": 3.0, "east": 8.0})},
    )  # fmt: skip
    ahead = [CovariateSteps(column="plan", at=(3,))] if feature is CovariateSteps else []
    for each in [*SETTINGS[feature], *ahead]:
        plan = WindowPlan(**plan_with(each))
        proof = pt.leak_check(panel, plan, chain=pt.Chain([pt.flatten.ZScore()]), origins=3)
        assert proof.passed, (plan, proof.evidence)
        assert proof.evidence["cells"] > 500


@pytest.mark.parametrize("forecaster", FORECASTERS, ids=lambda each: each.title)
def test_no_contender_learns_or_forecasts_from_the_future(forecaster: type, hourly: Panel) -> None:
    kind = forecaster.model_fields["kind"].default
    chain = pt.Chain(
        [pt.flatten.BoxCox(), pt.flatten.LoessSeasons(), pt.flatten.LinearTrend(method="tukey"),
         pt.flatten.LocalScale(), pt.flatten.SeasonalDifference(period=24), pt.flatten.ZScore()]
    )  # fmt: skip
    quick = {name: value for name, value in QUICK.get(kind, {}).items() if name != "lags"}  # its own plan
    contender = pt.forecaster(kind, chain=chain, **quick)
    proof = pt.leak_check(hourly, contender=contender, chain=chain, origins=[600, 1111], horizon=30)
    assert proof.passed, proof.evidence


@pytest.mark.parametrize("forecaster", FORECASTERS, ids=lambda each: each.title)
def test_what_may_only_be_positive_hears_nothing_of_values_below_zero_to_come(
    forecaster: type, rng: np.random.Generator
) -> None:
    """Without a chain, on few positive values: what comes may have no logarithm, no ratio and no scale of its own."""
    kind, month = forecaster.model_fields["kind"].default, np.arange(72)
    walks = rng.normal(size=(2, 72)).cumsum(axis=1) + 60 + 8 * np.sin(month * np.pi / 6)
    panel = Panel.from_arrays(dict(zip("ab", walks, strict=True)), "2018-01-01", "1 month")
    contender = pt.forecaster(kind, **QUICK.get(kind, {}))
    proof = pt.leak_check(panel, contender=contender, origins=[50, 61], horizon=4)
    assert proof.passed, proof.evidence


def test_a_leak_is_found_and_named(hourly: Panel, monkeypatch: pytest.MonkeyPatch) -> None:
    """A rolling mean centred on the origin, the classic mistake, must not pass."""

    def centred(self: Rolling, out: np.ndarray, rows: object) -> None:
        values = np.nan_to_num(rows.panel.values)  # type: ignore[attr-defined]
        out[:, 0] = np.convolve(values, np.ones(5) / 5, mode="same")[rows.points]  # type: ignore[attr-defined]

    monkeypatch.setattr(Rolling, "write", centred)
    proof = pt.leak_check(hourly, WindowPlan(lags=[1], rolling=[Rolling("mean", 5)]), origins=6)
    assert not proof.passed
    assert {leak["what"] for leak in proof.evidence["leaks"]} == {"mean 5"}


def ahead_anyway(self: CovariateSteps, out: np.ndarray, rows: object) -> None:
    """An observed column read one step beyond the origin."""
    column = rows.panel.covariate(self.column).values  # type: ignore[attr-defined]
    out[:, 0] = column[np.minimum(rows.points + 1, len(column) - 1)]  # type: ignore[attr-defined]


def whole_mean(self: pt.windows.Static, of_series: np.ndarray, rows: object) -> np.ndarray:
    """A category as the mean of all rows, those after the origin too."""
    panel = rows.panel  # type: ignore[attr-defined]
    return np.array([np.nanmean(panel.series(i)) for i in range(len(panel))])[rows.series]  # type: ignore[attr-defined]


def fill_from_the_right(panel: Panel) -> Panel:
    values = panel.values[::-1].copy()
    for i in range(1, len(values)):
        values[i] = values[i - 1] if np.isnan(values[i]) else values[i]
    return panel.with_values(values[::-1])


def test_planted_leaks_are_caught_and_named(hourly: Panel, monkeypatch: pytest.MonkeyPatch) -> None:
    """The classic ways to use the future: each must fail the check and be named."""
    lags = WindowPlan(lags=[1])
    holed = hourly.with_values(np.where(np.arange(len(hourly.values)) % 7 == 3, np.nan, hourly.values))
    static = Panel.from_arrays(
        {key: hourly[key] for key in hourly}, "2024-01-01", "1h",
        covariates={"size": ("static", {"north": 3.0, "east": 8.0})},
    )  # fmt: skip
    fit = pt.Chain.fit
    everything = lambda chain, panel, until=None: fit(chain, whole_of[panel.hash], None)  # noqa: E731
    plans = "proteron.core.windows.plan"
    encoded = WindowPlan(more=[pt.windows.Static(column="size", form="target")])
    planted = (
        ("weather +1", CovariateSteps, "write", ahead_anyway, hourly,
         WindowPlan(covariates=[CovariateSteps(column="weather", at=(1,))])),
        ("size so far", pt.windows.Static, "_so_far", whole_mean, static, encoded),
        ("lag 1", f"{plans}._filled_from_the_left", None, fill_from_the_right, holed,
         WindowPlan(lags=[1], missing="fill")),
    )  # fmt: skip
    for named, owner, attribute, leak, panel, plan in planted:
        assert pt.leak_check(panel, lags, origins=6).passed
        with monkeypatch.context() as planting:
            if attribute is None:
                planting.setattr(owner, leak)
            else:
                planting.setattr(owner, attribute, leak)
            proof = pt.leak_check(panel, plan, origins=6)
        assert not proof.passed, named
        assert named in {each["what"] for each in proof.evidence["leaks"]}
    # A scaler fitted on everything: what it learned changes with the future, and so do rows of the past.
    whole_of: dict[str, Panel] = {}
    looks = pt.leak_check.__globals__["_look"]

    def remember(panel: Panel, *rest: object) -> dict:
        whole_of[panel.hash] = panel
        return looks(panel, *rest)

    with monkeypatch.context() as planting:
        planting.setitem(pt.leak_check.__globals__, "_look", remember)
        planting.setattr(pt.Chain, "fit", everything)
        proof = pt.leak_check(hourly, lags, chain=pt.Chain([pt.flatten.ZScore()]), origins=6)
    assert not proof.passed
    assert {"z-score: centre of north", "lag 1"} <= {each["what"] for each in proof.evidence["leaks"]}


def test_a_column_that_is_the_future_of_the_target_is_warned_about(hourly: Panel) -> None:
    ahead = {key: np.append(hourly[key][3:], [0.0, 0.0, 0.0]) for key in hourly}
    panel = Panel.from_arrays(
        {key: hourly[key] for key in hourly}, "2024-01-01", "1h", covariates={"oracle": ("known_ahead", ahead)}
    )
    proof = pt.leak_check(panel, WindowPlan(lags=[1], horizon=[1, 4]), origins=4)
    assert proof.passed  # nothing can prove it
    assert "“oracle” is said to be known ahead but is almost the target 3 steps later" in proof.evidence["warnings"][0]
    assert pt.leak_check(hourly, WindowPlan(lags=[1]), origins=4).evidence["warnings"] == []


def test_corruption_leaves_the_known_alone(hourly: Panel) -> None:
    for kind in CORRUPTIONS:
        spoiled = corrupt_future(hourly, 700, kind)
        assert spoiled.cut_at(700).hash == hourly.cut_at(700).hash
        assert spoiled.hash != hourly.hash
