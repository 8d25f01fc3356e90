"""The plan as text: what is written reads back, and what cannot be read is quoted with a reason."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from test_window_features import levelled, others, plain_rolling, slopes

from proteron.core.errors import SettingsError
from proteron.core.windows import CovariateSteps, Flagged, Fourier, OccasionNear, Rolling, Since, Static, WindowPlan
from proteron.core.windows.plan_text import read_plan, write_plan


def test_a_plan_reads_as_it_is_said() -> None:
    plan = read_plan(
        """lags 1-3, 24; mean 24, 168; std 24 of 12 known; quantile 0.9 168
        hour_of_day; weekday one_hot; difference over 24; waves 8766 x 3
        occasion fair within 12; air_temp at 0, -1, -24; plan at +1..+3; district is one_hot shop, “back office”
        since not -1 .. 1; flagged within 48; ahead 1-6; stride 2; missing keep; half_life 500; by scale"""
    )
    assert plan.lags == (1, 2, 3, 24)
    assert plan.rolling == (
        Rolling("mean", 24), Rolling("mean", 168), Rolling("std", 24, least=12), Rolling("quantile", 168, level=0.9),
    )  # fmt: skip
    assert plan.calendar == ("hour_of_day",)
    assert plan.covariates == (
        CovariateSteps(column="air_temp", at=(0, -1, -24)), CovariateSteps(column="plan", at=(1, 2, 3)),
    )  # fmt: skip
    assert plan.more[2:] == (
        Fourier(period=8766, order=3), OccasionNear(name="fair", reach=12),
        Static(column="district", form="one_hot", labels=("shop", "back office")), Since(low=-1, high=1),
        Flagged(reach=48),
    )  # fmt: skip
    assert (plan.horizon, plan.stride, plan.missing) == (tuple(range(1, 7)), 2, "keep")
    assert (plan.half_life, plan.by_scale) == (500, True)
    assert read_plan(write_plan(plan)) == plan


names = st.text(st.characters(codec="utf-8", exclude_characters="“”;\n\r", exclude_categories=("C", "Z")), min_size=1)
columns = st.builds(
    CovariateSteps, column=names, at=st.lists(st.integers(-30, 30), min_size=1, max_size=4, unique=True).map(tuple)
)
statics = st.one_of(
    st.builds(Static, column=names, form=st.sampled_from(["number", "target"])),
    st.builds(
        Static, column=names, form=st.just("one_hot"), labels=st.lists(names, min_size=1, unique=True).map(tuple)
    ),
)


@settings(max_examples=200, deadline=None)
@given(
    lags=st.sets(st.integers(1, 500), max_size=30), horizon=st.sets(st.integers(1, 90), min_size=1, max_size=9),
    rolling=st.lists(st.one_of(plain_rolling, levelled, slopes), max_size=4, unique_by=lambda f: f.names[0]),
    more=st.lists(st.one_of(others, statics), max_size=4, unique_by=lambda f: f.names[0]),
    covariates=st.lists(columns, max_size=2, unique_by=lambda f: f.column), stride=st.integers(1, 200),
    missing=st.sampled_from(["drop", "keep", "fill"]), by_scale=st.booleans(),
    half_life=st.sampled_from([None, 0.5, 48.0, 1e5]),
)  # fmt: skip
def test_every_plan_reads_back_from_its_text(rolling: list, more: list, covariates: list, **rest: object) -> None:
    rest |= {"lags": sorted(rest["lags"]), "horizon": sorted(rest["horizon"])}  # type: ignore[type-var]
    try:
        plan = WindowPlan(rolling=rolling, more=more, covariates=covariates, **rest)
    except SettingsError:
        return  # the same name twice
    assert read_plan(write_plan(plan)) == plan


@pytest.mark.parametrize(
    ("text", "reason"),
    [
        ("lags 0", "lag 1 is the value at the origin, lag 0 would be the target"),
        ("lags 1-x", "“1-x” is not a whole number or a run"),
        ("lags 1-9999999", "longer than 20,000"),
        ("ahead 0", "0 does not go"),
        ("wobble 3", "“wobble 3” is not a part of a plan"),
        ("std 1", "a standard deviation needs a window of at least 2"),
        ("quantile 2 24", "the level of a quantile lies between 0 and 1"),
        ("mean 3 of 9 known", "more points must be known than the window has"),
        ("since not 2 .. 1", "the band begins above its end"),
        ("waves 1", "period"),
        ("missing gone", "missing"),
        ("lags 1; lags", "“lags” is not a part of a plan"),
        ("mean 24; mean 24", "names the same feature twice"),
    ],
)
def test_what_cannot_be_read_is_quoted_with_a_reason(text: str, reason: str) -> None:
    with pytest.raises(SettingsError) as caught:
        read_plan(text)
    assert reason in caught.value.message
