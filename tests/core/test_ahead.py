"""Columns known ahead that end too early: said before anything is forecast, and ways to go on."""

from typing import Any

import numpy as np
import pyarrow as pa
import pytest

import proteron as pt
from proteron.core.forecasters.ahead import lacking, require_ahead
from proteron.core.outlook import continued
from proteron.core.panel import Panel

HORIZON = 6


def panel_of(beyond: int | dict[str, int] = 0, days: int = 120, step: str = "1 day") -> Panel:
    """Two series that follow a price, which is known for some steps after their end."""
    rng = np.random.default_rng(5)
    reach = beyond if isinstance(beyond, dict) else {"a": beyond, "b": beyond}
    price = {key: 10 + rng.normal(size=days + reach[key]).cumsum() * 0.1 for key in reach}
    series = {key: 50 - 3 * price[key][:days] + 0.1 * rng.normal(size=days) for key in reach}
    return Panel.from_arrays(series, "2024-01-01", step, covariates={"price": ("known_ahead", price)})


PRICED = {
    "windows": ("ridge", {"lags": [1, 2], "covariates": [{"column": "price", "at": list(range(1, HORIZON + 1))}]}),
    "fed back": ("ridge", {"lags": [1], "covariates": [{"column": "price", "at": [1]}], "strategy": "recursive"}),
    "arima": ("arima", {"covariates": ["price"], "order": (1, 0, 0), "seasonal": (0, 0, 0)}),
    "additive": ("additive", {"covariates": ["price"]}),
    "regression": ("regression", {}), "regression by formula": ("regression", {"formula": "price + time"}),
}  # fmt: skip


def made(name: str) -> pt.Contender:
    kind, settings = PRICED[name]
    return pt.forecaster(kind, **settings)


@pytest.mark.parametrize("name", PRICED)
def test_a_forecast_says_which_column_ends_where(name: str) -> None:
    contender = made(name)
    for beyond in (0, HORIZON - 1):
        fitted = contender.fit(panel_of(beyond), horizon=HORIZON)
        with pytest.raises(pt.TooShortError) as caught:
            fitted.forecast(HORIZON)
        last = "2024-04-29 00:00:00" if beyond == 0 else "2024-05-04 00:00:00"
        assert f"“price” is known up to {last}, {beyond} of the 6 steps ahead that the forecast reads" in str(
            caught.value
        )
        assert "same as last year" in str(caught.value)
    enough = contender.fit(panel_of(HORIZON), horizon=HORIZON).forecast(HORIZON)
    assert np.isfinite(enough.mean).all()


def test_what_is_not_read_may_end() -> None:
    past = [{"column": "price", "at": [0, -1]}]
    for name, given in (("last_value", {}), ("ridge", {"lags": [1]}), ("regression", {"formula": "time"}),
                        ("ridge", {"lags": [1], "covariates": past})):  # fmt: skip
        contender = pt.forecaster(name, **given)
        assert lacking(panel_of(0), contender.forecaster, HORIZON) == []
        assert np.isfinite(contender.fit(panel_of(0), horizon=HORIZON).forecast(HORIZON).mean).all()


def test_one_series_that_lacks_it_does_not_keep_the_others_from_theirs() -> None:
    panel = panel_of({"a": HORIZON, "b": 2})
    contender = made("windows")
    (lack,) = lacking(panel, contender.forecaster, HORIZON)
    assert (lack.column, lack.series, lack.steps, lack.needed) == ("price", (1,), HORIZON, HORIZON)
    assert require_ahead(panel, contender.forecaster, HORIZON) == [1]
    for name in ("windows", "arima"):
        found = made(name).fit(panel, horizon=HORIZON).forecast(HORIZON)
        for values in (found.mean, found.lower[0.8], found.upper[0.8]):
            assert np.isfinite(values[0]).all()
            assert np.isnan(values[1]).all(), "nothing is made up"


def test_windows_read_as_far_as_they_are_fed_back() -> None:
    panel = panel_of(30)
    steps = lambda contender, horizon: contender.forecaster.reads_ahead(panel, horizon)["price"]  # noqa: E731
    assert steps(made("windows"), 6) == 6
    fed_back = made("fed back")
    assert [steps(fed_back, horizon) for horizon in (1, 6, 10)] == [1, 6, 10]
    blocks = pt.forecaster("ridge", lags=[1], horizon=[1, 2, 3], covariates=[{"column": "price", "at": [3]}])
    assert steps(blocks, 3) == 3
    assert made("arima").forecaster.reads_ahead(panel, 9) == {"price": 9}


@pytest.mark.parametrize("name", ["windows", "arima", "regression"])
def test_a_column_goes_on_as_it_is_asked_to(name: str) -> None:
    panel = panel_of(2, days=800)
    contender = made(name)
    assert continued(panel, contender, HORIZON, "given") is panel
    held = continued(panel, contender, HORIZON, "hold last").covariate("price")
    again = continued(panel, contender, HORIZON, "same as last year").covariate("price")
    for index in range(2):
        own = panel.covariate("price").series(index)
        assert held.series(index)[: len(own)].tolist() == own.tolist()
        assert held.series(index)[len(own) :].tolist() == [own[-1]] * (HORIZON - 2)
        local = panel.axis.local(np.arange(802, 806))
        for step, moment in enumerate(local):
            before = str(moment.item().replace(year=moment.item().year - 1))
            place = panel.axis.known(before) - 1
            assert again.series(index)[802 + step] == own[place]
    with pytest.raises(pt.SettingsError, match="is no way to go on; there are: given, hold last, same as last year"):
        continued(panel, contender, HORIZON, "guess")  # type: ignore[arg-type]


def test_a_year_before_the_29th_of_february_is_the_28th_and_may_not_have_been_seen() -> None:
    panel = panel_of(0, days=425)  # 2024-01-01 … 2025-02-28
    going_on = continued(panel, made("windows"), HORIZON, "same as last year").covariate("price").series(0)
    own = panel.covariate("price").series(0)
    assert going_on[425] == own[60], "1 March is 1 March"
    short = continued(panel_of(0, days=100), made("windows"), HORIZON, "same as last year")
    assert np.isnan(short.covariate("price").series(0)[100:]).all()
    with pytest.raises(pt.TooShortError):
        require_ahead(short, made("windows").forecaster, HORIZON)
    leap = Panel.from_arrays({"a": np.arange(1155.0)}, "2021-01-01", "1 day",
                             covariates={"price": ("known_ahead", np.arange(1155.0))})  # fmt: skip
    assert str(leap.times("a")[-1])[:10] == "2024-02-29"
    cut = leap.between(0, 1154)
    column = Panel.from_arrays({"a": np.arange(1154.0)}, "2021-01-01", "1 day",
                               covariates={"price": ("known_ahead", np.arange(1154.0))})  # fmt: skip
    found = continued(column, pt.forecaster("regression"), 1, "same as last year").covariate("price").series(0)
    assert cut.end == 1154
    assert str(leap.axis.local(np.array([int(found[-1])]))[0])[:10] == "2023-02-28"


def future(**columns: Any) -> pa.Table:
    times = np.datetime64("2024-04-30") + np.arange(HORIZON)
    return pa.table({"day": [str(time) for time in times], **columns})


def test_future_values_are_handed_over_as_a_table() -> None:
    panel = panel_of(1)
    known = panel.covariate("price").series(0)[-1]
    whole = pt.with_future(panel, future(price=np.arange(HORIZON) + 0.5))
    for index in range(2):
        assert whole.covariate("price").series(index)[121:].tolist() == [1.5, 2.5, 3.5, 4.5, 5.5]
    assert whole.covariate("price").series(0)[120] == known, "what was known is not replaced"
    fitted = made("windows").fit(whole, horizon=HORIZON)
    assert np.isfinite(fitted.forecast(HORIZON).mean).all()
    keyed = pt.with_future(panel, future(price=np.arange(6.0), key=["a", "a", "a", "b", "b", "b"]))
    assert keyed.covariate("price").series(0)[121:].tolist() == [1.0, 2.0]
    assert np.array_equal(keyed.covariate("price").series(1)[121:], [np.nan, np.nan, 3, 4, 5], equal_nan=True)
    for table, words in (
        (future(cost=np.arange(6.0)), "columns that are known ahead: “price”"),
        (pa.table({"price": [1.0, 2.0]}), "come with a time"),
        (future(price=np.arange(6.0), key=["a", "a", "a", "b", "b", "x"]), "There is no series “x”"),
        (pa.table({"day": ["2024-05-01 06:00", "2024-05-02 06:00"], "price": [1.0, 2.0]}), "There is no grid point at"),
    ):  # fmt: skip
        with pytest.raises(pt.InputError, match=words):
            pt.with_future(panel, table)


def test_an_outlook_says_it_before_it_learns_and_goes_on_as_asked() -> None:
    panel = panel_of(0, days=500)
    contender = made("windows")
    report = pt.walk_forward(panel, {"priced": contender}, pt.Folds.expanding(count=3, horizon=HORIZON))
    with pytest.raises(pt.TooShortError, match="“price” is known up to 2025-05-14"):
        pt.outlook(panel, contender, report.results)
    for ahead in ("hold last", "same as last year"):
        forecast = pt.outlook(panel, contender, report.results, ahead=ahead)
        assert np.isfinite(forecast.mean).all()
        assert forecast.origin == 500
