"""Is a difference real: intervals that hold what they say, tests of the right size, ranks and the set of the best."""

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy import stats

import proteron as pt
from proteron.core.judge import EntrantFacts, Fold, Folds, Losses, duel, make_board, savings
from proteron.core.judge.evidence import (
    Sample,
    best_set,
    compare_losses,
    rank_entrants,
    sample_of,
    skill_interval,
)  # fmt: skip
from proteron.core.judge.evidence.blocks import time_blocks
from proteron.core.judge.evidence.intervals import standard_error
from proteron.core.judge.evidence.verdict import signed, verdict_of
from proteron.core.panel import Panel

NAN = np.nan
Array = NDArray[np.float64]


def fold(cutoff: int, horizon: int = 4, every: int = 4, origins: int = 1, gap: int = 0) -> Fold:
    return Fold(0, cutoff, gap, horizon, every, cutoff + gap + origins * every)


def naive_losses(rng: np.random.Generator, blocks: int, series: int = 1, steps: int = 12, common: float = 0.0) -> Array:
    """Absolute errors of zero and of the last value on white noise, summed over steps, (2, n_blocks, n_series).

    The true ratio is 1/√2. `common` is the share of variance that all series have in common.
    """
    noise = rng.standard_normal((blocks, series, steps + 1))
    noise = np.sqrt(1 - common) * noise + np.sqrt(common) * rng.standard_normal((blocks, 1, steps + 1))
    return np.abs(np.array([noise[..., 1:], noise[..., 1:] - noise[..., :1]])).sum(axis=-1)


@pytest.mark.parametrize(
    ("blocks", "series", "common"), [(4, 1, 0.0), (8, 1, 0.0), (24, 1, 0.0), (8, 20, 0.0), (8, 20, 0.5)]
)
def test_the_interval_of_skill_holds_the_truth_as_often_as_it_says(blocks: int, series: int, common: float) -> None:
    rng, truth, repeats = np.random.default_rng(5), 1 - 1 / np.sqrt(2), 400
    inside, wide = 0, []
    for _ in range(repeats):
        mine, theirs = naive_losses(rng, blocks, series, common=common)
        found = skill_interval(mine, theirs)
        assert found is not None
        inside += found.low <= truth <= found.high
        wide.append(found.high - found.low)
    assert 0.905 <= inside / repeats <= 0.99
    assert np.median(wide) < (3 if blocks < 6 else 0.7), "wide enough is not all: it is to tell something"


def test_the_interval_is_exact_where_nothing_varies_and_follows_the_power() -> None:
    even = skill_interval(np.full((5, 1), 1.0), np.full((5, 1), 2.0))
    assert even is not None and (even.low, even.high) == pytest.approx((0.5, 0.5))
    mine, theirs = naive_losses(np.random.default_rng(0), 8)
    one, root = skill_interval(mine, theirs), skill_interval(mine, theirs, 0.5)
    assert one is not None and root is not None
    assert (1 - root.low) ** 2 == pytest.approx(1 - one.low) and (1 - root.high) ** 2 == pytest.approx(1 - one.high)
    again = skill_interval(mine * 7, theirs * 7)
    assert again is not None and again.low == pytest.approx(one.low)
    worse = skill_interval(theirs, mine)  # the other way about: mirrored, on the scale of ratios
    assert worse is not None and (1 - worse.low) * (1 - one.high) == pytest.approx(1, rel=0.02)


def test_no_interval_without_three_blocks_or_without_error() -> None:
    two = np.ones((2, 1))
    assert skill_interval(two, two) is None
    assert skill_interval(np.zeros((5, 1)), np.ones((5, 1))) is None
    assert skill_interval(np.ones((5, 1)), np.zeros((5, 1))) is None


def test_the_standard_error_counts_blocks_series_and_the_rest() -> None:
    """Against the variance of many samples with a known share of each."""
    rng = np.random.default_rng(3)
    for spread in ((1.0, 0.0, 1.0), (0.0, 1.0, 1.0), (0.6, 0.8, 1.0)):
        means, found = [], []
        for _ in range(600):
            draw = (
                spread[0] * rng.standard_normal((10, 1)) + spread[1] * rng.standard_normal((1, 15))
                + spread[2] * rng.standard_normal((10, 15))
            )  # fmt: skip
            means.append(draw.mean())
            found.append(standard_error(draw)[0] ** 2)
        assert np.mean(found) == pytest.approx(np.var(means), rel=0.15)
    few = standard_error(np.repeat([[1.0], [2.0], [4.0]], 4, axis=1))
    assert few == (pytest.approx(np.std([1, 2, 4], ddof=1) / np.sqrt(3)), 2.0), "four series are all there are"
    one, degrees = standard_error(np.array([[1.0], [2.0], [4.0]]))
    assert (one, degrees) == (pytest.approx(np.std([1, 2, 4], ddof=1) / np.sqrt(3)), 2.0)


def autoregressive(rng: np.random.Generator, shape: tuple[int, int], coefficient: float, horizon: int) -> Array:
    """Sums over `horizon` neighbours of a first-order process, (repeats, n)."""
    shocks = rng.standard_normal((shape[0], shape[1] + horizon + 100))
    found = np.zeros_like(shocks)
    for place in range(1, shocks.shape[1]):
        found[:, place] = coefficient * found[:, place - 1] + shocks[:, place]
    sums = np.cumsum(found, axis=1)
    return (sums[:, horizon:] - sums[:, :-horizon])[:, -shape[1] :]


@pytest.mark.parametrize(
    ("count", "horizon", "coefficient"), [(24, 1, 0.0), (50, 1, 0.5), (200, 1, 0.5), (100, 12, 0.0), (200, 12, 0.3)]
)
def test_the_difference_test_keeps_its_size_whatever_the_losses(count: int, horizon: int, coefficient: float) -> None:
    draws = autoregressive(np.random.default_rng(11), (1000, count), coefficient, horizon)
    found = [compare_losses(each, horizon) for each in draws]
    size = np.mean([each.p_value is not None and each.p_value < 0.05 for each in found])
    assert 0.03 <= size <= 0.075
    if horizon == 1 and coefficient:  # the textbook's test takes each loss for independent of the last
        assert np.mean([(each.textbook_p_value or 1) < 0.05 for each in found]) > 0.15
    shifted = [compare_losses(each + 1.2 * draws.std(), horizon) for each in draws[:100]]
    assert np.mean([(each.p_value or 1) < 0.05 for each in shifted]) > (0.35 if horizon > 1 else 0.9), (
        "and finds what is there"
    )


def test_the_textbooks_statistic_is_that_of_its_formula() -> None:
    """Harvey, Leybourne & Newbold 1997, eq. 9, computed by hand from a twin with loops."""
    away, overlap = np.random.default_rng(2).standard_normal(30) + 0.4, 4
    n, mean = 30, away.mean()
    gamma = [sum((away[t] - mean) * (away[t - lag] - mean) for t in range(lag, n)) / n for lag in range(overlap)]
    plain = mean / np.sqrt((gamma[0] + 2 * sum(gamma[1:])) / n)
    corrected = plain * np.sqrt((n + 1 - 2 * overlap + overlap * (overlap - 1) / n) / n)
    found = compare_losses(away, overlap)
    assert found.textbook == pytest.approx(corrected)
    assert found.textbook_p_value == pytest.approx(2 * stats.t.sf(abs(corrected), n - 1))
    independent = compare_losses(away)
    assert independent.textbook == pytest.approx(stats.ttest_1samp(away, 0).statistic)


def test_the_variance_is_the_mean_of_cosine_terms() -> None:
    away = np.random.default_rng(4).standard_normal(64)
    found, waves = compare_losses(away), 6  # 0.4 · 64 ** (2/3)
    terms = [
        np.sqrt(2 / 64) * sum(away[t] * np.cos(np.pi * wave * (t + 0.5) / 64) for t in range(64))
        for wave in range(1, waves + 1)
    ]
    assert found.degrees == waves
    assert found.statistic == pytest.approx(np.sqrt(64) * away.mean() / np.sqrt(np.mean(np.square(terms))))
    assert compare_losses(away, 12).degrees == 2 and compare_losses(away[:8]).degrees == 3


def test_little_or_nothing_to_compare_is_said() -> None:
    assert compare_losses(np.array([NAN, NAN])).observations == 0
    few = compare_losses(np.array([1.0, NAN, 3.0]))
    assert (few.observations, few.mean, few.statistic, few.p_value) == (2, 2.0, None, None)
    assert compare_losses(np.ones(9)).p_value is None


def test_ranks_are_those_of_the_published_example() -> None:
    """Demšar 2006, table 2 and section 3.2.2: four classifiers on 14 data sets (accuracies: larger is better).

    Ranks there tell apart two that are printed alike (the last but one).
    """
    accuracies = np.array([
        [0.763, 0.768, 0.771, 0.798], [0.599, 0.591, 0.590, 0.569], [0.954, 0.971, 0.968, 0.967],
        [0.628, 0.661, 0.654, 0.657], [0.882, 0.888, 0.886, 0.898], [0.936, 0.931, 0.916, 0.931],
        [0.661, 0.668, 0.609, 0.685], [0.583, 0.583, 0.563, 0.625], [0.775, 0.838, 0.866, 0.875],
        [1.000, 1.000, 1.000, 1.000], [0.940, 0.962, 0.965, 0.962], [0.619, 0.666, 0.614, 0.669],
        [0.972, 0.981, 0.9751, 0.975], [0.957, 0.978, 0.946, 0.970],
    ])  # fmt: skip
    found = rank_entrants(["a", "b", "c", "d"], -accuracies.T)
    assert found is not None
    assert [round(each, 3) for each in found.mean_ranks.values()] == [3.143, 2.0, 2.893, 1.964]
    assert found.statistic == pytest.approx(9.28, abs=0.01)
    assert found.critical_difference == pytest.approx(2.569 * np.sqrt(4 * 5 / (6 * 14)), abs=1e-3)
    assert found.cases == 14 and found.p_value == pytest.approx(stats.chi2.sf(9.28, 3), abs=1e-4)
    assert found.mean_ranks == dict(zip("abcd", stats.rankdata(-accuracies.T, axis=0).mean(axis=1), strict=True))
    for entrants in (2, 7, 30):
        spread = rank_entrants(list(range(entrants)), np.random.default_rng(4).normal(size=(entrants, 6)))
        exact = stats.studentized_range.ppf(0.95, entrants, np.inf) * np.sqrt(entrants * (entrants + 1) / (12 * 6))
        assert spread is not None and spread.critical_difference == pytest.approx(exact, rel=1e-9)
    gone = rank_entrants(["a", "b"], np.array([[1.0, NAN, 2.0], [2.0, 1.0, 1.0]]))
    assert gone is not None and gone.cases == 2 and gone.mean_ranks == {"a": 1.5, "b": 1.5}
    assert rank_entrants(["a"], np.ones((1, 5))) is None and rank_entrants(["a", "b"], np.ones((2, 1))) is None


@pytest.mark.parametrize(("entrants", "blocks"), [(2, 4), (5, 8), (20, 8), (5, 24)])
def test_the_set_of_the_best_holds_the_best_and_leaves_out_the_bad(entrants: int, blocks: int) -> None:
    rng, repeats, held, kept_bad = np.random.default_rng(8), 100, 0, 0
    names = tuple(str(place) for place in range(entrants))
    for _ in range(repeats):
        shared, own = rng.standard_normal((1, blocks, 12)), rng.standard_normal((entrants, blocks, 12))
        losses = ((0.8 * shared + 0.6 * own) ** 2).mean(axis=2)
        losses[1:] *= 1.02
        losses[-1] *= 40 if blocks < 6 else 8
        found = best_set(Sample(names, losses[:, :, None], "fold"))
        assert found is not None
        held += "0" in found.members
        kept_bad += names[-1] in found.members
    assert held >= 0.95 * repeats
    assert kept_bad <= (0.6 if blocks < 6 else 0.1) * repeats


def test_the_best_of_a_panel_counts_series_as_drawn() -> None:
    """Ahead by far on one series of many, evenly over time: the blocks are sure, the series are not."""
    sums = np.ones((2, 10, 12)) + 0.01 * np.random.default_rng(0).standard_normal((2, 10, 12))
    sums[0, :, 0] = 0.2
    one = best_set(Sample(("a", "b"), sums, "fold"))
    alone = best_set(Sample(("a", "b"), sums.sum(axis=2, keepdims=True), "fold"))
    assert one is not None and set(one.members) == {"a", "b"}
    assert alone is not None and alone.members == ("a",)
    assert (
        best_set(Sample(("a",), sums[:1], "fold")) is None and best_set(Sample(("a", "b"), sums[:, :2], "fold")) is None
    )


def test_blocks_are_folds_runs_of_what_overlaps_or_origins_where_folds_are_few() -> None:
    apart = [fold(10 + 4 * place) for place in range(8)]
    codes, kind = time_blocks(apart, (8, 1))
    assert kind == "fold" and codes[:, 0].tolist() == list(range(8))
    dense = [fold(10 + place) for place in range(24)]  # each overlaps the next three: blocks of six or more
    codes, kind = time_blocks(dense, (24, 1))
    assert kind == "folds" and codes[:, 0].tolist() == np.repeat([0, 1, 2, 3], 6).tolist()
    few = [fold(10, every=1, origins=9), fold(40, every=4, origins=3)]
    codes, kind = time_blocks(few, (2, 9))
    assert kind == "origins" and codes[1].tolist() == [1, 1, 1, -1, -1, -1, -1, -1, -1]
    assert codes[0].tolist() == [0] * 6 + [1] * 3
    late_first = [fold(50), fold(10), *(fold(14 + 4 * place) for place in range(4))]
    assert time_blocks(late_first, (6, 1))[0][:, 0].tolist() == [5, 0, 1, 2, 3, 4]
    assert time_blocks([], (0, 0))[0].size == 0


def test_a_sample_is_of_common_points_and_weighs_as_it_is_told() -> None:
    values = np.ones((2, 3, 2, 1, 2))
    values[0, 0, 0] = NAN
    values[1, 1, 1, 0, 0] = NAN
    values[1] *= 3
    found = sample_of(Losses("mae", ("a", "b"), values), ["a", "b"], None)
    assert found.of("a").tolist() == [[0, 2], [2, 1], [2, 2]] and found.of("b").tolist() == [[0, 6], [6, 3], [6, 6]]
    assert found.text == "3 folds"
    weighted = sample_of(Losses("mae", ("a", "b"), values, weights=np.array([1.0, 2.0])), ["a", "b"], None)
    assert weighted.of("a").sum(axis=0).tolist() == pytest.approx([1, 2])
    unfinished = values.copy()
    unfinished[0, 2] = NAN
    assert sample_of(Losses("mae", ("a", "b"), unfinished), ["a", "b"], None).blocks == 2
    once = sample_of(Losses("mae", ("a", "b"), np.ones((2, 1, 6, 1, 2))), ["a", "b"], None)
    assert once.kind == "series" and once.sums.shape == (2, 6, 1) and once.text == "6 series"


def noise_panel(length: int = 300, series: int = 1) -> Panel:
    rng = np.random.default_rng(9)
    values = {f"s{place}": rng.standard_normal(length) for place in range(series)}
    return pt.Panel.from_arrays(values, start="2024-01-01", step="1d")


def test_a_report_tells_a_difference_as_its_losses_do() -> None:
    panel = noise_panel(series=2)
    entered = {
        name: pt.forecaster(kind) for name, kind in (("mean", "mean"), ("last", "last_value"), ("drift", "drift"))
    }
    folds = Folds.expanding(count=10, horizon=6, every=3, span=12)
    report = pt.walk_forward(panel, entered, folds, metrics=["mae", "rmse"], baseline="last")
    found = report.difference("mean", "last")
    row = report.board.row("mean")
    assert found.skill == pytest.approx(row.skill) and found.interval == pytest.approx((row.skill_low, row.skill_high))
    losses = report.losses("mae")
    mine, theirs = losses.of("mean"), losses.of("last")  # type: ignore[union-attr]
    by_origin = np.nansum(mine - theirs, axis=(1, 3)).reshape(-1)  # folds follow each other
    assert found.test.observations == len(by_origin) == 10 * 4
    assert found.statistic == pytest.approx(compare_losses(by_origin, 2).statistic)
    assert found.test.mean == pytest.approx(np.nanmean(mine - theirs))
    assert found.p_value is not None and found.p_value < 0.05 and found.statistic is not None and found.statistic < 0
    assert "mean is better than last" in found.sentence and "more than luck" in found.sentence
    first, step = (np.nansum(mine - theirs, axis=1)[..., place].reshape(-1) for place in (1, 4))
    step = step[step != 0]  # the last of a fold does not reach that far
    assert found.steps == (1, 2, 3, 4, 5, 6)
    assert found.by_step[4].statistic == pytest.approx(compare_losses(step, 2).statistic)
    assert found.by_step[1].textbook == pytest.approx(compare_losses(first, 1).textbook)
    assert found.by_series.values == pytest.approx(report.losses("mae", by="series").values[:2])  # type: ignore[union-attr]
    back = report.difference("last", "mean")
    assert back.statistic == pytest.approx(-found.statistic) and back.skill is not None and back.skill < 0
    assert "mean is better than last" in back.sentence
    alike = report.difference("mean", "last", weighting="series")
    assert alike.test.mean == pytest.approx(found.test.mean)  # both series have as many points
    assert report.difference("mean", "last", "rmse").metric == "rmse"
    for wrong in (("mean", "nobody"), ("mean", "mean")):
        with pytest.raises(pt.ProteronError):
            report.difference(*wrong)
    with pytest.raises(pt.ProteronError, match="bias"):
        report.difference("mean", "last", "bias")


def test_savings_end_at_the_skill_and_say_when_one_pulled_ahead() -> None:
    folds = [fold(10 + 4 * place) for place in range(4)]
    values = np.ones((2, 4, 2, 1, 4))
    values[0, :2] = 0.5
    values[0, 1, 1] = 1.5
    values[1, 3, 0, 0, 0] = NAN
    losses = Losses("mae", ("one", "other"), values)
    positions, shares = savings(losses, "one", "other", folds)
    assert positions.tolist() == list(range(10, 26)) and shares[-1] == pytest.approx((8 * 0.5) / 31)
    assert shares[3] == shares.max() == pytest.approx(4 / 31) and np.ptp(shares[3:]) == pytest.approx(0)
    _, second = savings(losses, "one", "other", folds, series=1)
    assert second.max() == pytest.approx(2 / 16) and second[-1] == pytest.approx(0)
    nothing = savings(Losses("mae", ("one", "other"), np.full((2, 4, 2, 1, 4), NAN)), "one", "other", folds)
    assert nothing[0].size == nothing[1].size == 0
    empty = duel(
        Losses("mae", ("one", "other"), np.full((2, 4, 2, 1, 4), NAN)), "one", "other", noise_panel(40, 2), folds
    )
    assert empty.skill is None and empty.sentence == "one and other have no point in common."


def test_what_cannot_be_told_apart_is_said_in_words_and_marked() -> None:
    rng = np.random.default_rng(1)
    base = 2 + 0.2 * rng.standard_normal(12)
    twin = 1 + 0.2 * rng.standard_normal(12)
    rows = {"base": base, "good": twin, "as good": twin + 0.05 * rng.standard_normal(12), "bad": base + 3}
    picky = np.where(np.arange(12) < 4, 0.1, NAN)
    values = np.array([*rows.values(), picky])[:, :, None, None, None]
    facts = [EntrantFacts(name, "x") for name in (*rows, "picky")]
    board = make_board({"mae": Losses("mae", (*rows, "picky"), values)}, facts, ["mae"], "base")
    marks = {row.contender: row.among_best for row in board}
    assert marks == {"base": False, "good": True, "as good": True, "bad": False, "picky": None}
    assert (
        board.row("bad").mean_rank == 4.0
        and board.row("base").mean_rank == 3.0
        and board.row("picky").mean_rank is None
    )
    assert board.evidence.ranks is not None and board.evidence.ranks.cases == 12
    assert board.evidence.resampled == "12 folds"
    assert board.verdict in str(board) and board.verdict in board._repr_html_()
    alone = make_board({"mae": Losses("mae", ("base",), values[:1])}, facts[:1], ["mae"], "base")
    assert alone.verdict == "No verdict yet." and alone.row("base").among_best is None
    series = np.random.default_rng(2).uniform(1, 2, (2, 12, 3, 1, 1))
    ranked = make_board({"mae": Losses("mae", ("base", "bad"), series)}, facts[:1] + facts[3:4], ["mae"], "base")
    assert ranked.evidence.ranks is not None and ranked.evidence.ranks.cases == 3, "over series, where there are many"


def test_the_verdict_in_words() -> None:
    from proteron.core.judge.evidence import Interval

    sure, not_sure = Interval(0.1, 0.4), Interval(-0.1, 0.4)
    assert verdict_of({}, "naive", None) == "No verdict yet."
    assert verdict_of({"a": (-0.1, None), "b": (0.0, None)}, "naive", None) == "Nothing beats naive."
    assert (
        verdict_of({"a": (0.25, sure)}, "naive", ["a"])
        == "a is best, skill +0.25, 95 % interval +0.10 … +0.40: it beats naive."
    )
    both = {"a": (0.25, not_sure), "b": (0.2, None)}
    assert verdict_of(both, "naive", None).endswith(
        "a is best, skill +0.25, 95 % interval −0.10 … +0.40: not clearly different from naive."
    )
    assert verdict_of(both, "naive", ["a", "b", "naive"]).endswith("naive. b cannot be told apart from it.")
    assert verdict_of(both, "naive", ["a", "naive"]).endswith("different from naive.")
    chosen = {"a": (0.25, sure), "b": (0.2, sure)}
    lucky = verdict_of(chosen, "naive", ["a", "b", "naive"])
    assert "it beats naive taken by itself, which as the best of 2 it may owe to luck. b cannot be" in lucky
    assert "may owe" not in verdict_of({"a": (0.25, sure)}, "naive", ["a", "naive"]), "one alone was not chosen"
    assert verdict_of(both, "naive", ["a"]).endswith("No other comes near it.")
    many = dict.fromkeys("abcdef", (0.2, sure))
    assert verdict_of(many, "naive", list("abcdef")).endswith("b, c and 3 others cannot be told apart from it.")
    assert (signed(0.004), signed(-0.004), signed(-0.05), signed(1.0)) == ("0.00", "0.00", "−0.05", "+1.00")
