"""Folds, cells and losses against slow twins: which points are learned, scored, shared, keyed and gathered."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import proteron as pt
from proteron.core.judge import Fold, Folds, compute_cell, compute_cells, expand
from proteron.core.judge.folds import learned_by
from proteron.core.judge.losses import Losses
from proteron.core.judge.walk_forward import gather_losses, reason_of, run_cells
from proteron.core.panel import Panel, within

SPANS = st.lists(st.tuples(st.integers(0, 80), st.integers(1, 30)), max_size=4).map(
    lambda given: tuple((start, start + size) for start, size in given)
)


def panel_of(points: int, late: int = 0) -> Panel:
    rng = np.random.default_rng(points)
    return Panel.from_arrays(
        {"a": 50 + rng.normal(size=points), "b": 60 + rng.normal(size=points - late)},
        {"a": "2024-01-01T00:00", "b": str(np.datetime64("2024-01-01T00:00") + np.timedelta64(late, "h"))}, "1 hour",
    )  # fmt: skip


@settings(deadline=None, max_examples=150)
@given(
    kind=st.sampled_from(["expanding", "sliding"]), count=st.integers(1, 7), horizon=st.integers(1, 9),
    gap=st.integers(0, 4), span=st.none() | st.integers(1, 20), every=st.none() | st.integers(1, 9),
    spacing=st.none() | st.integers(1, 25), length=st.none() | st.integers(2, 60), refit=st.integers(1, 4),
    late=st.integers(0, 30),
)  # fmt: skip
def test_folds_equal_their_slow_twin(kind, count, horizon, gap, span, every, spacing, length, refit, late) -> None:
    """Counted backwards from the last point, one fold at a time."""
    panel = panel_of(220, late)
    asked = Folds(kind=kind, count=count, horizon=horizon, gap=gap, span=span, every=every, spacing=spacing,
                  length=length, refit=refit)  # fmt: skip
    stops = [panel.end - back * (spacing or span or horizon) for back in range(count)][::-1]
    cutoffs = [stop - (span or horizon) - gap for stop in stops]
    if cutoffs[0] < 2:
        with pytest.raises(pt.TooShortError, match=f"{count} folds of {span or horizon} steps"):
            asked.resolve(panel)
        return
    found = asked.resolve(panel)
    assert [fold.cutoff for fold in found] == cutoffs
    assert [fold.score_stop for fold in found] == stops
    assert found[-1].score_stop == panel.end
    for place, fold in enumerate(found):
        learned_at = cutoffs[place // refit * refit]
        assert fold.fit_until == learned_at
        assert (fold.learned_at is None) == (learned_at == fold.cutoff)
        wanted = max(learned_at - (length or cutoffs[0]), 0) if kind == "sliding" else 0
        assert fold.learn_start == wanted
        assert fold.score_start == fold.cutoff + gap
        origins = [o for o in range(fold.cutoff, fold.score_stop, every or horizon) if o + gap < fold.score_stop]
        assert fold.origins.tolist() == (origins or [fold.cutoff])
        assert fold.reach == gap + horizon


@pytest.mark.parametrize("kind", ["expanding", "sliding"])
def test_the_first_fold_learns_from_two_points_at_least(kind: str) -> None:
    asked = Folds(kind=kind, count=3, horizon=10, gap=2)
    assert asked.resolve(panel_of(34))[0].cutoff == 2
    with pytest.raises(pt.TooShortError, match="need more than 33 steps: the first would have nothing to learn from"):
        asked.resolve(panel_of(33))


@settings(deadline=None, max_examples=100)
@given(scored=SPANS, learned=SPANS, gap=st.integers(0, 3), every=st.integers(1, 7), horizon=st.integers(1, 6))
def test_spans_decide_what_is_learned_scored_and_begun(scored, learned, gap, every, horizon) -> None:
    fold = Fold(10, 40, gap, horizon, every, 90, learned=learned, scored=scored)
    inside = {p for start, stop in scored for p in range(start, stop)} if scored else set(range(200))
    expected = {p for p in inside if 40 + gap <= p < 90}
    assert set(np.flatnonzero(fold.is_scored(np.arange(200))).tolist()) == expected
    assert fold.origins.tolist() == [o for o in range(40, 90 - gap, every) if o + gap in expected]
    panel = panel_of(120)
    seen = fold.inside(panel)
    known = np.isfinite(seen.learnable().series(0))
    positions = seen.positions(0)
    assert positions.min() == 10
    assert positions.max() == 89
    taken = {p for start, stop in learned for p in range(start, stop)} if learned else set(range(200))
    assert set(positions[known].tolist()) == {p for p in range(10, 90) if p in taken}
    assert Fold.from_document(fold.document()) == fold


def test_a_plain_fold_names_nothing_it_does_not_use() -> None:
    plain = Fold(0, 40, 0, 5, 5, 50)
    assert set(plain.document()) == {"learn_start", "cutoff", "gap", "horizon", "every", "score_stop"}
    assert plain.fit_document() == {"learn_start": 0, "until": 40, "reach": 5}
    assert replace(plain, learned=((0, 9),)).fit_document()["learned"] == ((0, 9),)
    assert within(np.arange(6), ((1, 3), (4, 5))).tolist() == [False, True, True, False, True, False]


@given(cutoffs=st.lists(st.integers(1, 50), min_size=1, max_size=6), origin=st.integers(0, 60))
def test_the_fold_that_learned_last_is_found_in_any_order(cutoffs: list[int], origin: int) -> None:
    folds = [Fold(0, cutoff, 0, 3, 3, cutoff + 3) for cutoff in cutoffs]
    found = learned_by(folds, origin)
    before = [cutoff for cutoff in cutoffs if cutoff <= origin]
    assert (found is None) == (not before)
    if found is not None:
        assert cutoffs[found] == max(before)


@pytest.fixture(scope="module")
def panel() -> Panel:
    return panel_of(220)


def test_cells_stand_fold_by_fold_and_each_has_a_key_of_its_own(panel: Panel) -> None:
    contenders = {"last": pt.forecaster("last_value"), "mean": pt.forecaster("mean")}
    folds = Folds(count=3, horizon=5).resolve(panel)
    cells = expand(panel, contenders, folds, 1)
    assert [(cell.fold, cell.name) for cell in cells] == [(f, n) for f in range(3) for n in ("last", "mean")]
    assert len({cell.key for cell in cells}) == len({cell.fit_key for cell in cells}) == 6
    assert all(cell.place == folds[cell.fold] and cell.series == (0, 1) for cell in cells)


def test_a_key_follows_everything_the_numbers_depend_on_and_nothing_else(panel: Panel) -> None:
    folds = Folds(count=2, horizon=5).resolve(panel)
    last = pt.forecaster("last_value")

    def first(**changed: object):
        given = {"panel": panel, "contenders": {"last": last}, "folds": folds, "seed": 1} | changed
        return expand(**given)[0]  # type: ignore[arg-type]

    same = first()
    assert first(contenders={"another name": last}).key == same.key
    assert first(dataset=panel.hash).key == same.key
    other_values = panel.with_values(panel.values + 1)
    for changed in (
        {"seed": 2}, {"panel": other_values}, {"contenders": {"last": pt.forecaster("mean")}}, {"dataset": "other"},
        {"folds": [replace(folds[0], cutoff=folds[0].cutoff - 1)]},
    ):  # fmt: skip
        other = first(**changed)
        assert other.key != same.key
        assert other.fit_key != same.fit_key
        assert other.seed == int(other.fit_key[:8], 16)
    for changed in ({"levels": (0.9,)}, {"folds": [replace(folds[0], every=1)]}):
        other = first(**changed)
        assert other.key != same.key
        assert other.fit_key == same.fit_key, "what is learned does not depend on what is asked of it"


def test_series_are_grouped_by_the_work_they_are(panel: Panel) -> None:
    many = Panel.from_arrays({f"s{i}": np.arange(300.0) for i in range(50)}, "2024-01-01", "1 hour")
    folds = Folds(count=1, horizon=5).resolve(many)
    dear = pt.forecaster("arima")
    cells = expand(many, {"arima": dear, "net": pt.forecaster("dense_network"), "last": pt.forecaster("last_value")},
                   folds, 0)  # fmt: skip
    by_name = {name: [cell for cell in cells if cell.name == name] for name in ("arima", "net", "last")}
    size = max(1, int(4e6 / (300 * dear.forecaster.cost)))
    assert [len(cell.series) for cell in by_name["arima"]] == [size] * (50 // size) + [50 % size] * (50 % size > 0)
    assert sorted(i for cell in by_name["arima"] for i in cell.series) == list(range(50))
    assert [len(cell.series) for cell in by_name["net"]] == [50], "a network learns from all series at once"
    assert by_name["arima"][0].work == size * 300 * dear.forecaster.cost
    assert by_name["last"][0].batch == by_name["last"][0].fit_key


@pytest.mark.parametrize("name", ["last_value", "ridge", "smoothing", "dense_network"])
def test_cells_computed_together_are_those_computed_alone(name: str, panel: Panel) -> None:
    settings_of = {"ridge": {"lags": [1, 2]}, "dense_network": {"hidden": [3], "epochs": 2}}
    contenders = {name: pt.forecaster(name, **settings_of.get(name, {}))}
    folds = Folds(count=4, horizon=4, refit=2).resolve(panel)
    cells = expand(panel, contenders, folds, 7)
    assert len({cell.fit_key for cell in cells}) == 2, "two folds share what the first of them learned"
    together = compute_cells(panel, cells)
    for cell, found in zip(cells, together, strict=True):
        alone = compute_cell(panel, cell)
        for part in ("mean", "flat_mean", "flat_truth", "ranges", "spread"):
            assert getattr(found, part).tobytes() == getattr(alone, part).tobytes(), part
        again = compute_cell(panel, cell, fit=alone.fit)
        assert again.mean.tobytes() == alone.mean.tobytes()
        assert again.fit is alone.fit
    assert len({id(result.fit) for result in together}) == 2


def test_one_that_fails_in_a_batch_is_its_own_fate(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(type(pt.forecaster("dense_network").forecaster), "batched", True)
    values = np.r_[np.arange(1.0, 101), -5.0, np.arange(1.0, 20)]
    panel = Panel.from_arrays({"a": values}, "2024-01-01", "1 hour")
    log = pt.forecaster("dense_network", hidden=[2], epochs=1, chain=pt.Chain([pt.flatten.Log()]))
    cells = expand(panel, {"log": log}, Folds(count=3, horizon=5, spacing=12).resolve(panel), 0)
    assert {cell.batch for cell in cells} == {log.hash}
    found = {cell.fold: reason for cell, _, reason in run_cells(panel, cells)}
    assert found[0] is None
    assert all("positive values" in (found[fold] or "") for fold in (1, 2))


def test_reasons_are_words_for_people() -> None:
    assert reason_of(pt.TooShortError("Too few.")) == "Too few."
    assert reason_of(MemoryError()) == "The cell needed more memory than its limit."
    assert reason_of(ZeroDivisionError("by zero")) == "ZeroDivisionError: by zero"


@pytest.fixture(scope="module")
def judged(panel: Panel):
    contenders = {"last": pt.forecaster("last_value"), "mean": pt.forecaster("mean")}
    asked = Folds(count=3, horizon=4, gap=1, span=10, every=3)
    folds = asked.resolve(panel)
    results = compute_cells(panel, expand(panel, contenders, folds, 0))
    return folds, results, gather_losses(results, list(contenders), folds, len(panel))


@pytest.mark.parametrize("metric", ["mae", "rmse", "mase", "smape", "coverage_80"])
@pytest.mark.parametrize("view", ["step", "fold", "series", "slot"])
def test_breakdowns_equal_a_loop_over_every_point(judged, panel: Panel, metric: str, view: str) -> None:
    folds, results, gathered = judged
    found: dict[str, list[list[float]]] = {}
    for result in results:
        fold = folds[result.cell.fold]
        for s, o, h in np.ndindex(*result.mean.shape):
            position = int(result.origins[o]) + fold.gap + h
            label = {
                "step": str(fold.gap + h + 1), "fold": str(result.cell.fold + 1), "series": panel.keys[s],
                "slot": f"hour_of_day {position % 24}",
            }[view]  # fmt: skip
            loss = result.losses[metric][s, o, h]
            sums = found.setdefault(f"{result.cell.name}|{label}", [[]])
            if np.isfinite(loss):
                sums[0].append(float(loss))
    told = gathered[metric].by(view, panel, folds)
    assert told.names == ("last", "mean")
    for row, name in enumerate(told.names):
        for column, label in enumerate(told.labels):
            losses = found[f"{name}|{label}"][0]
            expected = np.mean(losses) if losses else np.nan
            expected = np.sqrt(expected) if metric == "rmse" else expected
            assert told.values[row, column] == pytest.approx(expected, rel=1e-12, nan_ok=True)


def test_points_beyond_the_scored_span_have_no_loss(judged, panel: Panel) -> None:
    folds, results, _ = judged
    for result in results:
        fold = folds[result.cell.fold]
        steps = result.origins[:, None] + fold.gap + np.arange(fold.horizon)
        beyond = steps >= fold.score_stop
        assert beyond.any()
        assert np.isnan(result.losses["mae"][:, beyond]).all()
        assert np.isfinite(result.losses["mae"][:, ~beyond]).all()


def test_losses_of_unknown_names_and_views_are_refused(judged, panel: Panel) -> None:
    folds, _, gathered = judged
    with pytest.raises(pt.SettingsError, match="hour of week, weekday or month, not by “week”"):
        gathered["mae"].by("week", panel, folds)  # type: ignore[arg-type]
    empty = Losses.empty("mae", ["x"], [], 0)
    assert empty.values.shape == (1, 0, 0, 0, 0)
    assert empty.by("step", panel, []).labels == ()


def test_every_family_keeps_the_shapes_of_a_cell(panel: Panel) -> None:
    """Whatever the family: forecasts, ranges and losses as the fold asks for them."""
    folds = Folds(count=1, horizon=3, gap=2, span=6, every=3).resolve(panel)
    small = {"dense_network": {"hidden": [2], "epochs": 1}, "ridge": {"lags": [1]}}
    for name in ("last_value", "seasonal_last_value", "mean", "drift", "ridge", "smoothing", "theta", "dense_network"):
        (cell,) = expand(panel, {name: pt.forecaster(name, **small.get(name, {}))}, folds, 0, levels=(0.8,))
        result = compute_cell(panel, cell)
        assert result.mean.shape == result.flat_mean.shape == result.flat_truth.shape == (2, 2, 3)
        assert result.ranges.shape == (1, 2, 2, 2, 3)
        known = np.isfinite(result.ranges).all(axis=(0, 1))
        assert (result.ranges[0, 0] <= result.ranges[0, 1])[known].all()
        assert {loss.shape for loss in result.losses.values()} == {(2, 2, 3)}
