"""Ranges corrected by how those of earlier folds held: as many inside as they say, nothing later read."""

import numpy as np
import pytest

import proteron as pt
from proteron.core.errors import InputError
from proteron.core.judge import compute_cells, expand
from proteron.core.judge.conformal import corrected
from proteron.core.judge.walk_forward import run_cells
from proteron.core.judge.yardsticks import scored_truth

FOLDS = pt.Folds.expanding(count=10, horizon=6, span=48, every=6)


def jagged(seed: int, grows: float = 1.0, count: int = 1200) -> pt.Panel:
    """Noise of heavy tails, whose ranges by theory are too narrow in the middle; it may grow in the last third."""
    rng = np.random.default_rng(seed)
    values = 50 + rng.standard_t(2.2, count) * np.where(np.arange(count) > 0.67 * count, grows, 1.0)
    return pt.Panel.from_arrays({"a": values, "b": 2 * values[::-1]}, start="2024-01-01", step="1h")


def entered() -> dict[str, pt.Contender]:
    return {how: pt.forecaster("mean", ranges=how) for how in ("own", "split", "adaptive")}


def result(report: pt.Report, name: str, fold: int):
    (found,) = [each for each in report.results if each.cell.name == name and each.cell.fold == fold]
    return found


def test_corrected_ranges_hold_more_truly_and_forecasts_stay() -> None:
    own, better = [], []
    for seed in range(6):
        report = pt.walk_forward(jagged(seed), entered(), FOLDS, levels=(0.5, 0.8))
        for fold in range(len(report.folds)):
            plain, split = result(report, "own", fold), result(report, "split", fold)
            assert np.array_equal(plain.mean, split.mean) and plain.cell.fit_key == split.cell.fit_key
            if fold == 0:
                assert np.array_equal(plain.ranges, split.ranges)  # nothing is known yet
            elif fold >= 4:
                truth = scored_truth(report.panel, plain.cell.place)
                for found, into in ((plain, own), (split, better)):
                    inside = (truth >= found.ranges[0, 0]) & (truth <= found.ranges[0, 1])
                    into.append(inside[np.isfinite(truth)].mean())
    assert abs(np.mean(better) - 0.5) < 0.03 < abs(np.mean(own) - 0.5)


def test_the_factor_is_the_slow_twins() -> None:
    """Written out for one series: the ⌈(n + 1) level⌉-th smallest distance from the middle, in half-widths."""
    panel = jagged(3)
    report = pt.walk_forward(panel, entered(), FOLDS, levels=(0.5, 0.8))
    for fold in (1, 5, 9):
        now = result(report, "own", fold)
        for series in range(2):
            values, scores = panel.series(series), []
            for before in range(fold):
                plain = result(report, "own", before)
                for o, origin in enumerate(plain.origins):
                    for step in range(6):
                        low, high = plain.ranges[1, :, series, o, step]
                        if origin + step < now.cell.place.cutoff:
                            scores.append(abs(values[origin + step] - (low + high) / 2) / ((high - low) / 2))
            factor = sorted(scores)[int(np.ceil((len(scores) + 1) * 0.8)) - 1]
            low, high = now.ranges[1, :, series]
            middle, half = (low + high) / 2, (high - low) / 2
            found = result(report, "split", fold).ranges[1, :, series]
            assert np.allclose(found, [middle - factor * half, middle + factor * half], rtol=1e-9)


def test_the_adaptive_kind_follows_when_noise_grows() -> None:
    """Where errors grow, the split kind goes on missing; the adaptive one aims higher by what it misses."""
    missed = {"split": [], "adaptive": []}
    for seed in range(5):
        report = pt.walk_forward(jagged(seed, grows=4.0), entered(), pt.Folds.expanding(20, 6, span=24, every=6),
                                 levels=(0.8,))  # fmt: skip
        for how, into in missed.items():
            into.append(1 - np.mean(report.losses("coverage_80", by="fold").values[list(entered()).index(how), 6:]))
    assert np.mean(missed["adaptive"]) < np.mean(missed["split"]) - 0.02


@pytest.mark.parametrize("how", ["split", "adaptive"])
@pytest.mark.parametrize("folds", [FOLDS, pt.Folds.calendar("week", learn=4, hidden=True, horizon=12, count=6)])
def test_nothing_later_and_nothing_hidden_is_read(how: str, folds: pt.Folds) -> None:
    panel = jagged(1)
    plain = pt.walk_forward(panel, {how: pt.forecaster("mean", ranges=how)}, folds, levels=(0.8,))
    place = plain.folds[4]
    values = {key: panel[key].copy() for key in panel.keys}
    for key in values:
        values[key][place.cutoff :] = 9e5
        for start, stop in place.hidden:
            values[key][start:stop] = -7e5
    corrupted = pt.Panel.from_arrays(values, start="2024-01-01", step="1h")
    again = pt.walk_forward(corrupted, {how: pt.forecaster("mean", ranges=how)}, folds, levels=(0.8,))
    before, after = result(plain, how, 4), result(again, how, 4)
    first = after.origins == place.cutoff
    assert np.array_equal(before.ranges[:, :, :, first], after.ranges[:, :, :, first])


def test_too_little_is_no_correction() -> None:
    panel = jagged(2, count=200)
    folds = pt.Folds.expanding(count=4, horizon=6)
    report = pt.walk_forward(panel, entered(), folds, levels=(0.8,))
    for fold, same in ((1, True), (2, True), (3, True)):
        equal = np.array_equal(result(report, "own", fold).ranges, result(report, "split", fold).ranges)
        assert equal == same  # 6, 12, 18 points are fewer than 20
    more = pt.walk_forward(panel, entered(), pt.Folds.expanding(count=6, horizon=6), levels=(0.8,))
    assert not np.array_equal(result(more, "own", 4).ranges, result(more, "split", 4).ranges)  # 24 are not


def test_order_workers_and_levels_change_nothing() -> None:
    panel = jagged(5)
    folds = pt.Folds.expanding(count=5, horizon=6, span=24, sealed=2)
    one = pt.walk_forward(panel, entered(), folds)
    two = pt.walk_forward(panel, dict(reversed(entered().items())), folds, workers=2)
    for how in entered():
        for fold in range(3):
            first, second = result(one, how, fold), result(two, how, fold)
            assert first.cell.key == second.cell.key and np.array_equal(first.ranges, second.ranges)
    sealed = one.break_seal("split")
    whole = pt.walk_forward(panel, entered(), pt.Folds.expanding(count=5, horizon=6, span=24))
    for fold in (0, 1):  # sealed folds are numbered anew in their report
        assert np.array_equal(result(sealed, "split", fold).ranges, result(whole, "split", fold + 3).ranges)
    unranged = pt.walk_forward(panel, {"split": entered()["split"]}, folds, levels=())
    assert unranged.results[0].ranges.size == 0


def test_without_all_earlier_folds_there_is_no_correction() -> None:
    """What a cell says may not depend on what happened to be computed before it."""
    panel = jagged(6)
    folds = pt.Folds.expanding(count=4, horizon=12).resolve(panel)
    cells = expand(panel, {"split": entered()["split"]}, folds, 0)
    whole = compute_cells(panel, cells)
    there = {each.cell.key: each for each in whole}
    assert np.array_equal(compute_cells(panel, cells[3:], earlier=there)[0].ranges, whole[3].ranges)
    first = there.pop(cells[0].key)
    with pytest.raises(InputError, match="one has no result"):
        compute_cells(panel, cells[3:], earlier=there)
    outcomes = {cell.fold: reason for cell, _, reason in run_cells(panel, cells[1:], earlier={})}
    assert all("earlier folds" in (outcomes[fold] or "") for fold in (1, 2, 3))
    again = [found for _, found, _ in run_cells(panel, cells[1:], earlier={first.cell.key: first})]
    assert np.array_equal(again[-1].ranges, whole[3].ranges)


def test_a_range_without_width_is_left_alone() -> None:
    panel = pt.Panel.from_arrays({"flat": np.full(300, 3.0)}, start="2024-01-01", step="1h")
    report = pt.walk_forward(panel, entered(), pt.Folds.expanding(count=5, horizon=12), levels=(0.8,))
    assert np.array_equal(result(report, "split", 4).ranges, result(report, "own", 4).ranges)
    folds = report.folds
    ranges = np.stack([np.full((1, 1, 1, 12), 2.0), np.full((1, 1, 1, 12), 4.0)], axis=1)
    past = [(fold, ranges) for fold in folds[:4]]
    assert np.array_equal(corrected(panel, "split", (0.8,), (folds[4], ranges), past), ranges)  # exact: no wider than 0
