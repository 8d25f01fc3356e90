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
W = pt.windows
PLANS |= {
    "Change": WindowPlan(more=[W.Change(over=24), W.Change(form="ratio", lag=2)]),
    "Weighted": WindowPlan(more=[W.Weighted(half_life=10), W.Weighted(statistic="std", half_life=3)]),
    "Expanding": WindowPlan(more=[W.Expanding(statistic=each) for each in ("mean", "std", "min", "max", "count")]),
    "Since": WindowPlan(more=[W.Since(low=-1, high=1)]),
    "Fourier": WindowPlan(more=[W.Fourier(period=24.5, order=3)]),
    "OccasionNear": WindowPlan(more=[W.OccasionNear()]),
    "Static": WindowPlan(more=[W.Static(column="size", form=each) for each in ("number", "target")]),
    "Rolling": WindowPlan(
        rolling=[Rolling(each, 24, least=least) for each in ("mean", "std", "sum", "min", "max", "median")
                 for least in (None, 5)],
        more=[Rolling("slope", 12), Rolling("quantile", 30, level=0.9), Rolling("above", 9, level=0)],
    ),
}  # fmt: skip
FORECASTER_SETTINGS = {"dense_network": {"hidden": [6], "epochs": 2}}


@pytest.mark.parametrize("stage", STAGES, ids=lambda stage: stage.title)
def test_no_stage_learns_from_the_future(stage: type, hourly: Panel) -> None:
    kind = stage.model_fields["kind"].default
    chain = pt.Chain([stage(**STAGE_SETTINGS.get(kind, {}))])
    proof = pt.leak_check(hourly, PLANS["Lags"], chain=chain, origins=5)
    assert proof.passed, proof.evidence


@pytest.mark.parametrize("feature", FEATURES, ids=lambda feature: feature.__name__)
def test_no_feature_reads_the_future(feature: type, hourly: Panel) -> None:
    given = {column.name: (column.role, {key: column.series(i) for i, key in enumerate(hourly.keys)})
             for column in hourly.covariates}  # fmt: skip
    panel = Panel.from_arrays(
        {key: hourly[key] for key in hourly}, {key: hourly.times(key)[0] for key in hourly}, "1h", "Europe/Lisbon",
        covariates=given | {"size": ("static", {"north": 3.0, "east": 8.0})},
    )  # fmt: skip
    proof = pt.leak_check(panel, PLANS[feature.__name__], chain=pt.Chain([pt.flatten.ZScore()]), origins=5)
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
