"""A contender between chain and forecaster: ranges, smearing, open gaps, errors inside what was learned."""

from dataclasses import replace

import numpy as np
import pytest
from scipy import stats

import proteron as pt
from proteron import models
from proteron.core.forecasters import Contender, Work
from proteron.core.forecasters.contender import FittedContender
from proteron.core.intake.filling import fill_panel
from proteron.core.intake.recipe import Filling
from proteron.core.panel import Panel
from proteron.core.phases import truths

LOG = pt.Chain([pt.flatten.Log()])
LEVELS = (0.5, 0.8, 0.95)
LEVEL = {"error": "additive", "trend": "none", "season": "none"}


@pytest.fixture(scope="module")
def panel() -> Panel:
    rng = np.random.default_rng(71)
    return Panel.from_arrays(
        {"a": np.exp(3 + 0.2 * rng.normal(size=160)), "b": np.exp(2 + 0.3 * rng.normal(size=130))},
        {"a": "2024-01-01T00:00", "b": "2024-01-02T06:00"}, "1 hour",
    )  # fmt: skip


@pytest.fixture(scope="module")
def fitted(panel: Panel) -> FittedContender:
    return pt.forecaster("last_value", chain=LOG).fit(panel, 150)


def test_errors_inside_are_forecast_minus_truth_in_flat_units(fitted: FittedContender, panel: Panel) -> None:
    """Every origin that has its horizon inside what is known; the last logarithm before it."""
    errors = fitted.flat_errors(3)
    first = int(panel.starts.min()) + fitted.contender.forecaster.look_back(fitted.state, fitted.known)
    assert errors.shape == (150 - 3 - first + 1, 2, 3)
    logs = np.log(panel.cut_at(150).series(0))
    for row, origin in enumerate(range(first, 148)):
        assert errors[row, 0] == pytest.approx(logs[origin - 1] - logs[origin : origin + 3])
    late = np.log(panel.series(1))
    row = 40 - first
    assert errors[row, 1] == pytest.approx(late[9] - late[10:13])
    assert np.isnan(errors[10, 1]).all(), "before its first point a series has no error"
    assert fitted.flat_errors(150).shape == (0, 2, 150)


def test_no_more_errors_than_three_hundred_evenly_spread(panel: Panel) -> None:
    long = Panel.from_arrays({"a": np.random.default_rng(1).normal(size=2000) + 9}, "2024-01-01", "1 hour")
    assert len(pt.forecaster("last_value").fit(long).flat_errors(2)) == 300


def test_ranges_without_theory_carry_errors_to_every_origin(panel: Panel) -> None:
    """The quantiles of what would have been with each past error, undone through the chain, at each origin."""
    fitted = pt.forecaster("ridge", lags=[1, 2], chain=LOG, safeguards=False).fit(panel, 150)
    assert not fitted.has_theory
    origins = np.array([100, 120, 149])
    mean, flat = fitted.means(panel, origins, 4)
    errors = np.random.default_rng(2).normal(size=(43, 2, 4))
    errors[:5, 1] = np.nan
    found = fitted.ranges(panel, origins, flat, LEVELS, errors)
    assert found.shape == (3, 2, 2, 3, 4)
    for place, level in enumerate(LEVELS):
        for end, share in enumerate(((1 - level) / 2, (1 + level) / 2)):
            for series in range(2):
                logs = flat[series][None] - errors[:, series][:, None]
                expected = np.nanquantile(logs, share, axis=0, method="weibull")
                if series == 1:  # 38 errors do not tell the ends of a range of 95 %
                    rows = np.isfinite(logs).sum(axis=0)
                    spread = np.sqrt(np.nansum((logs - flat[series]) ** 2, axis=0) / rows)
                    expected = flat[series] + stats.t.ppf(share, rows) * spread
                assert found[place, end, series] == pytest.approx(np.exp(expected))
    assert mean == pytest.approx(np.exp(flat))
    none = fitted.ranges(panel, origins, flat, LEVELS, errors[:0])
    assert np.isnan(none).all()


def test_ranges_by_theory_are_ordered_and_undone(panel: Panel) -> None:
    plain = pt.forecaster("smoothing", **LEVEL).fit(panel, 150)
    origins = np.array([130, 149])
    _, flat = plain.means(panel, origins, 3)
    assert plain.has_theory
    found = plain.ranges(panel, origins, flat, LEVELS, plain.flat_errors(3))
    assert (np.diff(found, axis=1) >= 0).all()
    assert (found[0, 0] >= found[2, 0]).all()
    assert (found[0, 1] <= found[2, 1]).all()
    behind = pt.forecaster("smoothing", **LEVEL, chain=LOG).fit(panel, 150)
    _, flat = behind.means(panel, origins, 3)
    logged = behind.ranges(panel, origins, flat, LEVELS, behind.flat_errors(3))
    assert (logged > 0).all(), "a range behind a logarithm stays positive"
    bare = pt.forecaster("smoothing", **LEVEL).fit(panel.with_values(np.log(panel.values)), 150)
    ends = bare.ranges(panel.with_values(np.log(panel.values)), origins, flat, LEVELS, bare.flat_errors(3))
    assert logged == pytest.approx(np.exp(ends))


def test_a_mean_behind_a_chain_is_smeared_where_asked(panel: Panel) -> None:
    """Duan 1983: the mean of what would have been with each past error, instead of the undone mean of logarithms."""
    plain = pt.forecaster("mean", chain=LOG).fit(panel, 150)
    smeared = pt.forecaster("mean", chain=pt.Chain([pt.flatten.Log()], bias_adjust=True)).fit(panel, 150)
    median, flat = plain.means(panel, np.array([150]), 2)
    mean, same = smeared.means(panel, np.array([150]), 2)
    assert same.tobytes() == flat.tobytes()
    errors = smeared.flat_errors(2)
    chosen = errors[np.unique(np.linspace(0, len(errors) - 1, 60).round().astype(int))]
    expected = np.nanmean(np.exp(flat[None] - chosen[:, :, None]), axis=0)
    assert mean == pytest.approx(expected)
    assert (mean > median).all(), "the mean of a log-normal lies above its median"
    alone = pt.forecaster("mean", chain=pt.Chain([], bias_adjust=True)).fit(panel, 150).means(panel, np.array([150]), 2)
    assert alone[0].tobytes() == alone[1].tobytes(), "without a stage there is nothing to adjust"


def test_no_forecast_leaves_from_a_gap_that_was_filled_from_its_far_side() -> None:
    values = np.arange(1.0, 41)
    values[20:24] = np.nan
    panel = fill_panel(Panel.from_arrays({"a": values}, "2024-01-01", "1 day"), Filling(method="linear"), {})
    fitted = pt.forecaster("last_value").fit(panel)
    means = fitted.means(panel, np.arange(18, 28), 1)[0][0, :, 0]
    assert np.isnan(means).tolist() == [False] * 3 + [True] * 4 + [False] * 3
    carried = fill_panel(Panel.from_arrays({"a": values}, "2024-01-01", "1 day"), Filling(method="carry_last"), {})
    assert np.isfinite(pt.forecaster("last_value").fit(carried).means(carried, np.arange(18, 28), 1)[0]).all()


def test_learning_together_is_learning_alone(panel: Panel) -> None:
    contender = pt.forecaster("ridge", lags=[1, 2, 3], chain=LOG)
    fits = [(panel, 120, Work(seed=1)), (panel.select([0]), 140, Work(seed=2)), (panel, None, Work(seed=3))]
    for (part, until, work), found in zip(fits, contender.fit_many(fits), strict=True):
        alone = contender.fit(part, until, seed=work.seed)
        assert found.until == alone.until
        origins = np.array([found.until])
        assert found.means(part, origins, 3)[0].tobytes() == alone.means(part, origins, 3)[0].tobytes()
    with pytest.raises(pt.TooShortError, match="Nothing is known as of this cutoff"):
        contender.fit(panel, 0)


def test_fitted_values_residuals_and_criteria_are_one_step_ahead(panel: Panel) -> None:
    fitted = pt.forecaster("last_value").fit(panel)
    for key in panel.keys:
        values = panel[key]
        assert fitted.fitted_values[key][1:] == pytest.approx(values[:-1])
        assert np.isnan(fitted.fitted_values[key][0])
        assert fitted.residuals[key][1:] == pytest.approx(np.diff(values))
        assert fitted.criteria[key]["n"] == len(values) - 1
        assert fitted.criteria[key]["rmse"] == pytest.approx(np.sqrt((np.diff(values) ** 2).mean()))
    one = pt.forecaster("last_value").fit(panel.select([0]))
    assert one.fitted_values.shape == (160,)
    assert isinstance(one.criteria["n"], float)
    nothing = Panel.from_arrays({"a": [4.0, np.nan]}, "2024-01-01", "1 day")
    assert np.isnan(pt.forecaster("last_value").fit(nothing).criteria["rmse"])


def test_a_forecast_begins_at_the_cutoff_and_keeps_what_was_asked(panel: Panel) -> None:
    fitted = pt.forecaster("mean").fit(panel, 150)
    found = fitted.forecast(5, levels=(0.9,))
    assert found.origin == 150
    assert found.mean.shape == (2, 5)
    assert set(found.lower) == set(found.upper) == {0.9}
    assert (found.lower[0.9] <= found.upper[0.9]).all()
    errors = np.ones((9, 2, 5)) * np.linspace(-1, 1, 9)[:, None, None]
    wide, narrow = (fitted.forecast(5, levels=(0.9,), flat_errors=times * errors) for times in (2.0, 1.0))
    assert (wide.upper[0.9] - wide.lower[0.9]) == pytest.approx(2 * (narrow.upper[0.9] - narrow.lower[0.9]))
    for bad in (0, -3):
        with pytest.raises(pt.SettingsError, match="at least one step"):
            fitted.forecast(bad)


def test_a_contender_is_named_by_word_or_by_model() -> None:
    by_name = pt.forecaster("ridge", strength=2.0, lags=[1, 2])
    by_model = pt.forecaster(models.Ridge(strength=2.0, plan=pt.WindowPlan(lags=[1, 2])))
    assert by_name.hash == by_model.hash
    with pytest.raises(pt.SettingsError, match="Settings stand in the model already"):
        pt.forecaster(models.LastValue(), period=3)
    with pytest.raises(pt.SettingsError, match="no forecaster “oracle”; there are: last_value"):
        pt.forecaster("oracle")
    assert pt.forecaster(models.LastValue(), chain=LOG).chain == LOG


def test_a_contender_s_hash_is_of_settings_version_and_chain(monkeypatch: pytest.MonkeyPatch) -> None:
    base = pt.forecaster("drift")
    assert Contender.from_document(base.document()).hash == base.hash
    assert pt.forecaster("drift", chain=LOG).hash != base.hash
    assert pt.forecaster("mean").hash != base.hash
    assert base.document()["forecaster"]["version"] == base.forecaster.version
    before = base.hash
    monkeypatch.setattr(type(base.forecaster), "version", base.forecaster.version + 1)
    assert pt.forecaster("drift").hash != before, "another way of computing is another contender"


@pytest.mark.parametrize(
    ("name", "is_baseline"),
    [("last_value", True), ("mean", True), ("drift", True), ("theta", False), ("ridge", False), ("smoothing", False)],
)
def test_baselines_are_the_naive_ones(name: str, is_baseline: bool) -> None:
    assert pt.forecaster(name).is_baseline is is_baseline


def test_what_was_learned_says_from_what(panel: Panel) -> None:
    fitted = pt.forecaster("mean", chain=LOG).fit(panel, 150)
    assert repr(fitted) == "mean behind log, learned from 2 series up to 2024-01-07 05:00:00"
    assert "behind" not in repr(pt.forecaster("mean").fit(panel, 150))


def test_truths_are_what_happened_after_each_origin(panel: Panel) -> None:
    found = truths(panel, np.array([0, 29, 30, 158]), 3)
    assert found[0, 0].tolist() == panel.series(0)[:3].tolist()
    assert np.isnan(found[1, 0]).all()
    assert np.array_equal(found[1, 1], [np.nan, *panel.series(1)[:2]], equal_nan=True)
    assert found[1, 2].tolist() == panel.series(1)[:3].tolist()
    assert np.array_equal(found[0, 3], [*panel.series(0)[158:], np.nan], equal_nan=True)
    other = truths(panel, np.array([30]), 1, panel.values * 2)
    assert other[1, 0, 0] == 2 * panel.series(1)[0]


def test_a_panel_with_another_beginning_is_placed_on_the_same_axis(fitted: FittedContender, panel: Panel) -> None:
    later = panel.between(40, 160)
    axis = replace(later.axis, start=panel.axis.times(np.array([40]))[0])
    moved = replace(later, axis=axis, starts=later.starts - 40)
    whole = fitted.means(panel, np.array([155]), 3)[0]
    assert fitted.means(moved, np.array([115]), 3)[0].tobytes() == whole.tobytes()
    assert np.isfinite(whole).all()
