"""The leak check over the registries: whatever is added later is caught here."""

import numpy as np
import pytest

import proteron as pt
from proteron.core.flatten import STAGES
from proteron.core.forecasters import FORECASTERS
from proteron.core.leak_check import CORRUPTIONS, corrupt_future
from proteron.core.panel import Panel
from proteron.core.windows import FEATURES, CovariateSteps, Rolling, WindowPlan

STAGE_SETTINGS = {"seasonal_difference": {"period": 24}}
PLANS = {
    "Lags": WindowPlan(lags=[1, 2, 24]),
    "Rolling": WindowPlan(rolling=[Rolling("mean", 24), Rolling("std", 5)]),
    "CalendarCycle": WindowPlan(calendar=["hour_of_day", "month"]),
    "CovariateSteps": WindowPlan(
        covariates=[CovariateSteps(column="weather", at=(0, -5)), CovariateSteps(column="plan", at=(3,))]
    ),
}
FORECASTER_SETTINGS = {"dense_network": {"hidden": [6], "epochs": 2}}


@pytest.mark.parametrize("stage", STAGES, ids=lambda stage: stage.title)
def test_no_stage_learns_from_the_future(stage: type, hourly: Panel) -> None:
    kind = stage.model_fields["kind"].default
    chain = pt.Chain([stage(**STAGE_SETTINGS.get(kind, {}))])
    proof = pt.leak_check(hourly, PLANS["Lags"], chain=chain, origins=5)
    assert proof.passed, proof.evidence


@pytest.mark.parametrize("feature", FEATURES, ids=lambda feature: feature.__name__)
def test_no_feature_reads_the_future(feature: type, hourly: Panel) -> None:
    proof = pt.leak_check(hourly, PLANS[feature.__name__], chain=pt.Chain([pt.flatten.ZScore()]), origins=5)
    assert proof.passed, proof.evidence
    assert proof.evidence["cells"] > 1000


@pytest.mark.parametrize("forecaster", FORECASTERS, ids=lambda each: each.title)
def test_no_contender_learns_or_forecasts_from_the_future(forecaster: type, hourly: Panel) -> None:
    kind = forecaster.model_fields["kind"].default
    chain = pt.Chain(
        [pt.flatten.BoxCox(), pt.flatten.LoessSeasons(), pt.flatten.LinearTrend(method="tukey"),
         pt.flatten.LocalScale(), pt.flatten.SeasonalDifference(period=24), pt.flatten.ZScore()]
    )  # fmt: skip
    contender = pt.forecaster(kind, chain=chain, **FORECASTER_SETTINGS.get(kind, {}))
    proof = pt.leak_check(hourly, contender=contender, chain=chain, origins=[600, 1111], horizon=30)
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


def test_corruption_leaves_the_known_alone(hourly: Panel) -> None:
    for kind in CORRUPTIONS:
        spoiled = corrupt_future(hourly, 700, kind)
        assert spoiled.cut_at(700).hash == hourly.cut_at(700).hash
        assert spoiled.hash != hourly.hash
