"""Blends: members' cells are read and never computed again, weights come from earlier folds only."""

from pathlib import Path
from typing import Any

import numpy as np
import pytest

import proteron as pt
from proteron.core.experiment import Judging
from proteron.core.forecasters.blend.mixing import Past, mixed
from proteron.core.forecasters.blend.rules import Rule
from proteron.core.judge import Cell, CellResult, compute_cells, expand
from proteron.core.leak_check import corrupt_future

FOLDS = pt.Folds.expanding(count=4, horizon=4, gap=1, sealed=1)
SMOOTH, THETA, NAIVE = (pt.forecaster(kind) for kind in ("smoothing", "theta", "seasonal_last_value"))


@pytest.fixture
def panel(rng: np.random.Generator) -> pt.Panel:
    t = np.arange(72)
    walks = rng.normal(size=(3, 72)).cumsum(axis=1)
    return pt.Panel.from_arrays(
        {f"s{row}": 60 + 8 * np.sin(t * np.pi / 6) + walk for row, walk in enumerate(walks)}, "2018-01-01", "1 month"
    )


def blend(**more: Any) -> pt.Contender:
    return pt.blend({"smooth": SMOOTH, "theta": THETA, "naive": NAIVE}, **more)


def of(report: pt.Report, name: str) -> list[CellResult]:
    return [each for each in report.results if each.cell.name == name]


def test_members_stand_on_the_board_and_the_blend_is_their_weighted_sum(panel: pt.Panel) -> None:
    report = pt.walk_forward(panel, {"naive": NAIVE, "blend": blend()}, FOLDS)
    assert report.names == ("naive", "blend", "smooth", "theta") and not report.failures
    assert len(report.results) == 3 * 4  # one cell a fold of each, none twice
    for fold, mine in enumerate(of(report, "blend")):
        weights = mine.fit.arrays["weights"] if mine.fit else np.zeros(0)
        np.testing.assert_allclose(weights.sum(axis=0), 1)
        assert (fold == 0) == bool((weights == weights[0]).all())
        members = np.array([of(report, name)[fold].mean for name in ("smooth", "theta", "naive")])
        np.testing.assert_allclose(mine.mean, (weights[:, :, :, None] * members).sum(axis=0), rtol=1e-12)
        inside = mine.cell.place.inside(panel)
        fitted = mine.fitted(inside)
        again = fitted.means(inside, mine.origins, mine.cell.place.reach)
        assert again[0][..., 1:].tobytes() == mine.mean.tobytes()
        ends = fitted.ranges(inside, mine.origins, again[1], mine.cell.levels, np.empty((0, 3, 5)))
        np.testing.assert_array_equal(ends[..., 1:], mine.ranges)
    assert "weighed by their errors at 21 earlier points" in fitted.summary["s1"]
    assert fitted.parameters["s1"] == pytest.approx(
        dict(zip(("smooth", "theta", "naive"), weights[:, 1, 0], strict=True))
    )


def test_weights_are_those_of_the_rule_on_earlier_folds(panel: pt.Panel) -> None:
    report = pt.walk_forward(panel, {"naive": NAIVE, "blend": blend(shared=True, rule="least_squares")}, FOLDS)
    last = of(report, "blend")[-1]
    before = [of(report, name)[:-1] for name in ("smooth", "theta", "naive")]
    forecasts = np.array([[each.mean[:, 0] for each in mine] for mine in before])  # members, folds, series, steps
    positions = [each.origins[0] + 1 + np.arange(4) for each in before[0]]
    truth = np.array([[panel.series(series)[at] for at in positions] for series in range(3)])
    cutoff = last.cell.place.cutoff
    truth[:, np.array(positions) >= cutoff] = np.nan  # the gap makes the last step one that is not known yet
    known = [panel.series(series)[:cutoff] for series in range(3)]
    season = [np.abs(values[12:] - values[:-12]).mean() for values in known]
    scales = np.repeat(season, 2)[:, None]
    expected = Rule(rule="least_squares").weights_of(
        truth.reshape(6, 4), forecasts.transpose(0, 2, 1, 3).reshape(3, 6, 4), scales
    )
    assert last.fit is not None
    np.testing.assert_allclose(last.fit.arrays["weights"][:, :, 0], np.repeat(expected[:, None], 3, axis=1), rtol=1e-9)


def test_no_weight_knows_what_came_after_its_fold(panel: pt.Panel) -> None:
    overlapping = pt.Folds.expanding(count=3, horizon=6, spacing=2)
    entered = {"naive": NAIVE, "smooth": SMOOTH, "theta": THETA, "blend": blend(by_step=True)}
    clean = pt.walk_forward(panel, entered, overlapping)
    for place, fold in enumerate(clean.folds):
        spoiled = pt.walk_forward(corrupt_future(panel, fold.cutoff, "noise"), entered, overlapping)
        for one, other in zip(of(clean, "blend")[: place + 1], of(spoiled, "blend")[: place + 1], strict=True):
            assert one.fit is not None and other.fit is not None
            for name, array in one.fit.arrays.items():
                assert array.tobytes() == other.fit.arrays[name].tobytes(), name
            assert one.mean[:, 0].tobytes() == other.mean[:, 0].tobytes()
            assert one.ranges[:, :, :, 0].tobytes() == other.ranges[:, :, :, 0].tobytes()
    fitted = clean.results[-1].fit
    assert fitted is not None and fitted.arrays["weights"].shape == (3, 3, 6)
    assert pt.leak_check(panel, contender=blend(), origins=[50, 61], horizon=4).passed


def test_workers_order_and_the_seal_change_nothing(panel: pt.Panel) -> None:
    entered = {"blend": blend(ranges="split"), "naive": NAIVE}
    one, two = (pt.walk_forward(panel, entered, FOLDS, baseline="naive", workers=workers) for workers in (1, 2))
    for left, right in zip(one.results, two.results, strict=True):
        assert left.mean.tobytes() == right.mean.tobytes() and left.ranges.tobytes() == right.ranges.tobytes()
    sealed = one.break_seal("blend")
    assert sealed.names == ("blend", "naive", "smooth", "theta") and not sealed.failures
    mine = of(sealed, "blend")[0]
    assert (
        mine.fit is not None and mine.fit.facts["points"] == 3 * 12 - 3
    )  # of the open folds; the last point is beyond the cutoff


def test_a_member_without_a_result_is_said_and_a_declined_series_left_to_others(panel: pt.Panel) -> None:
    with pytest.raises(pt.SettingsError, match="“theta” is not entered"):
        expand(panel, {"blend": blend(), "smooth": SMOOTH}, FOLDS.resolve(panel), 0)
    cells = expand(panel, {"naive": NAIVE, "smooth": SMOOTH, "theta": THETA, "blend": blend()}, FOLDS.resolve(panel), 0)
    first: list[Cell] = [each for each in cells if each.fold == 0]
    with pytest.raises(pt.InputError, match="one has no result"):
        compute_cells(panel, [first[-1]], earlier={each.cell.key: each for each in compute_cells(panel, first[:1])})
    values = panel.series(0)
    short = pt.Panel.from_arrays({"a": values, "b": np.r_[np.full(66, np.nan), values[66:]]}, "2018-01-01", "1 month")
    single = pt.Folds.single(horizon=3)
    report = pt.walk_forward(short, {"naive": pt.forecaster("last_value"), "blend": pt.blend(
        {"smooth": SMOOTH, "ridge": pt.forecaster("ridge", lags=[1, 12])})}, single)  # fmt: skip
    found = of(report, "blend")[0]
    assert np.isfinite(found.mean[0]).all() and found.declined.keys() == of(report, "ridge")[0].declined.keys() & (
        of(report, "smooth")[0].declined.keys()
    )


def test_alone_it_refits_and_forecasts_within_its_safeguards(panel: pt.Panel, tmp_path: Path) -> None:
    contender = blend(floor=58.0)
    fitted = contender.fit(panel, until=68, horizon=4)
    answer = fitted.forecast(4)
    assert "weighed by their errors at 36 earlier points" in fitted.summary["s0"]
    assert (answer.mean >= 58).all() and (answer.lower[0.95] >= 58).all() and answer.paths(20).min() >= 58
    wide = answer.upper[0.95] - answer.lower[0.95]
    assert (wide >= answer.upper[0.5] - answer.lower[0.5]).all() and (wide > 0).any()
    path = pt.save_fitted(fitted, tmp_path / "blend.npz")
    assert pt.load_fitted(path).forecast(4).mean.tobytes() == answer.mean.tobytes()
    given = pt.blend({"a": SMOOTH, "b": NAIVE}, weights={"a": 3, "b": 1}, safeguards=False)
    parts = [each.fit(panel, horizon=4).forecast(4).mean for each in (SMOOTH, NAIVE)]
    np.testing.assert_allclose(given.fit(panel, horizon=4).forecast(4).mean, 0.75 * parts[0] + 0.25 * parts[1])
    broken = pt.blend({"smooth": SMOOTH, "needs others": pt.forecaster("regression", covariates=["heat"])})
    alone = broken.fit(panel.select([0]), horizon=4)
    best, other = alone.contender.forecaster.tried(alone.state, "s0")
    assert other.reason and best.label == "smooth, 100%"
    told = [each.label for each in fitted.contender.forecaster.tried(fitted.state, "s0")]
    assert (
        len(told) == 3
        and sum("without it" in each for each in told) == (fitted.state.arrays["weights"][:, 0] > 0).sum()
    )
    np.testing.assert_allclose(alone.forecast(4).mean, SMOOTH.fit(panel.select([0]), horizon=4).forecast(4).mean)


def test_documents_say_members_by_name_or_whole_and_refuse_nonsense() -> None:
    entry = {"name": "both", "forecaster": {"kind": "blend", "members": ["one", "two"], "rule": "median"}}
    others = [{"name": "one", "forecaster": {"kind": "theta"}}, {"name": "two", "forecaster": {"kind": "drift"}}]
    judging = Judging.parse({"contenders": [entry, *others]})
    assert Judging.parse(judging.document()) == judging
    assert judging.entrants["both"].hash == pt.blend(
        {"one": pt.forecaster("theta"), "two": pt.forecaster("drift")}, "median").hash  # fmt: skip
    whole = Judging.parse({"contenders": [{"name": "b", "forecaster": blend().forecaster.document()}, others[0]]})
    assert list(whole.entrants) == ["b", "one", "smooth", "naive"]  # theta is there already
    for members, more, said in (
        (["one", "nobody"], {}, "not among"), (["one", "one"], {}, "same name"), (["one"], {}, "at least 2"),
        (["one", "two"], {"rule": "given"}, "0 weights"),
        (["one", "two"], {"rule": "given", "weights": [1, -1]}, "negative"),
        (["one", "both"], {}, "not blends again"),
    ):  # fmt: skip
        wrong = {"name": "x", "forecaster": {"kind": "blend", "members": members, **more}}
        with pytest.raises(pt.SettingsError, match=said):
            Judging.parse({"contenders": [wrong, entry, *others]})
    with pytest.raises(pt.SettingsError, match="takes none"):
        pt.Contender.parse(
            {"forecaster": blend().forecaster.document(), "chain": pt.Chain((pt.flatten.Log(),)).document()}
        )
    with pytest.raises(pt.SettingsError, match="every member"):
        pt.blend({"a": SMOOTH, "b": THETA}, weights={"a": 1.0})


def test_by_step_and_shared_weights_and_stretched_ranges(rng: np.random.Generator) -> None:
    truth = rng.normal(size=(2, 40, 3))
    early, late = truth + np.array([0.1, 0.1, 5.0]), truth + np.array([5.0, 5.0, 0.1])
    past = Past(truth, np.array([early, late]), np.full((2, 1, 2, 2, 40, 3), 1.0), np.ones(2))
    mix = mixed(Rule(), past, (0.8,), shared=False, by_step=True)
    np.testing.assert_array_equal(mix.weights[0] == 1, [[True, True, False]] * 2)
    assert mix.ahead([1], 5)[0, 0, 0].tolist() == [1, 1, 0, 0, 0]  # beyond what was learned as the last step
    assert mix.stretched([0], (0.8, 0.9)).shape == (2, 1, 1, 1, 1)
    one = past.forecasts.copy()
    one[0, 1] += 100
    alone = np.abs(truth[0] - (0.5 * early + 0.5 * late)[0]), np.abs(truth[0] - late[0])
    even = mixed(Rule(rule="mean"), past, (), shared=False, by_step=False)
    assert even.without[0, 0] == pytest.approx(alone[1].mean() / alone[0].mean())
    apart, together = (
        mixed(Rule(), Past(truth, one, past.halves, past.scales), (0.8,), s, False) for s in (False, True)
    )
    assert apart.weights[0, 0, 0] > apart.weights[0, 1, 0] and (together.weights[:, 0] == together.weights[:, 1]).all()
