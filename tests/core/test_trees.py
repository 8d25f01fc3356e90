"""Boosted trees: splits against a search of all, losses against differences, and what they learn."""

import itertools
import math
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest

import proteron as pt
from proteron.core.errors import InputError
from proteron.core.forecasters.trees import kernels
from proteron.core.forecasters.trees.attribution import attribute
from proteron.core.forecasters.trees.binning import MISSING, Bins
from proteron.core.forecasters.trees.boosting import Boosted, Boosting, Rows
from proteron.core.forecasters.trees.losses import Huber, Quantile, Squared, Tweedie, loss_named, weighted_quantile
from proteron.core.forecasters.trees.tree import Ground, Shape


def sums_of(binned, slopes, curves):
    out = np.empty((len(binned), 256, 2))
    kernels.add_up(binned, np.arange(binned.shape[1], dtype=np.int32), slopes, curves, 0, len(binned), out)
    return out


def gain_of(left, slopes, curves, shrink):
    parts = [(slopes[side].sum(), curves[side].sum() + shrink) for side in (left, ~left)]
    whole = slopes.sum() ** 2 / (curves.sum() + shrink)
    return 0.5 * (sum(slope**2 / curve for slope, curve in parts) - whole)


def every_split(column, categorical):
    """All ways in which the bins of a feature can be parted, missing ones on either side."""
    used = sorted(set(column.tolist()) - {MISSING})
    if categorical:
        ways = [set(way) for size in range(len(used) + 1) for way in itertools.combinations(used, size)]
    else:
        ways = [set(used[:size]) for size in range(len(used) + 1)]
    for way in ways:
        for with_missing in (set(), {MISSING}):
            left = np.isin(column, list(way | with_missing))
            if 0 < left.sum() < len(left):
                yield left


@pytest.mark.parametrize("seed", range(6))
def test_the_best_split_is_that_of_a_search_of_all(seed: int) -> None:
    rng = np.random.default_rng(seed)
    features = np.column_stack([rng.integers(0, 6, 90), rng.integers(0, 5, 90), rng.normal(size=90).round(1)]).astype(
        float
    )
    features[rng.random(features.shape) < 0.15 * (seed % 2)] = np.nan
    kinds = np.array([False, True, False])
    bins = Bins.learn(features, kinds)
    binned, slopes, curves = bins.apply(features), rng.normal(size=90), rng.uniform(0.5, 2, 90)
    slopes += np.where(features[:, 1] == 3, 2.0, 0.0) - np.where(features[:, 1] == 1, 1.0, 0.0)
    allowed, signs = np.ones(3, dtype=bool), np.zeros(3, dtype=np.int64)
    found = kernels.best_split(
        sums_of(binned, slopes, curves), bins.counts, kinds, signs, allowed, 0.7, 8.0, -np.inf, np.inf
    )
    best = max(
        (gain_of(left, slopes, curves, 0.7), feature)
        for feature in range(3)
        for left in every_split(binned[feature], kinds[feature])
        if min(curves[left].sum(), curves[~left].sum()) >= 8.0
    )
    assert found[0] == pytest.approx(best[0]) and found[1] == best[1]
    left = found[2][binned[found[1]]]
    assert gain_of(left, slopes, curves, 0.7) == pytest.approx(best[0])
    allowed[best[1]] = False
    other = kernels.best_split(
        sums_of(binned, slopes, curves), bins.counts, kinds, signs, allowed, 0.7, 8.0, -np.inf, np.inf
    )
    assert other[1] != best[1] and other[0] <= best[0]
    nothing = kernels.best_split(
        sums_of(binned, slopes, curves), bins.counts, kinds, signs, allowed, 0.7, 1e3, -np.inf, np.inf
    )
    assert nothing[:2] == (0.0, -1)


def test_a_tree_is_grown_by_the_best_leaf_or_level_by_level() -> None:
    rng = np.random.default_rng(3)
    features = rng.normal(size=(4000, 3))
    high = 20 + 8 * (features[:, 1] > 0) + 4 * (features[:, 1] > 1)
    targets = np.where(features[:, 0] > 0, high, features[:, 2] > 0)
    bins = Bins.learn(features)
    grown = {}
    for order in ("best", "level"):
        ground = Ground(bins.apply(features), bins.counts, np.zeros(3, bool), np.zeros(3, np.int64),
                        Shape(leaves=4, shrink=0.0, order=order))  # fmt: skip
        rows = np.arange(4000, dtype=np.int32)
        grown[order], _ = ground.grow(rows, -targets.astype(float), np.ones(4000), np.ones(3, bool))
    tree = grown["best"]
    leaf = tree.features < 0
    assert leaf.sum() == 4 and np.isclose(tree.weights[leaf].sum(), 4000) and tree.weights[0] == 4000
    assert tree.features[0] == 0 and (tree.features[~leaf] != 2).all()  # the small steps of the other side can wait
    assert set(grown["level"].features[1:3].tolist()) == {1, 2}
    said = np.zeros(4000)
    tree.add_to(ground.bins, said)
    for value in np.unique(said):
        assert value == pytest.approx(targets[said == value].mean())
    shallow = Ground(ground.bins, bins.counts, ground.categorical, ground.monotone, Shape(leaves=8, depth=1))
    rows = np.arange(4000, dtype=np.int32)
    short, of_nodes = shallow.grow(rows, -targets.astype(float), np.ones(4000), np.ones(3, bool))
    assert len(short.values) == 3 and [len(each) for each in of_nodes] == short.weights.tolist()


@pytest.mark.parametrize("loss", [Squared(), Huber(), Tweedie(1.0), Tweedie(1.4), Quantile(0.2)])
def test_slopes_and_curves_are_those_of_differences(loss) -> None:
    rng = np.random.default_rng(1)
    targets, scores = rng.gamma(2.0, size=200), rng.normal(size=200)
    loss.begin(targets, np.ones(200))
    slope, curve = loss.bent(scores, targets)
    step = 1e-5
    difference = (loss.of(scores + step, targets) - loss.of(scores - step, targets)) / (2 * step)
    smooth = np.abs(scores - targets) > 1e-3
    assert np.allclose(slope[smooth], difference[smooth], rtol=1e-6, atol=1e-7)
    if isinstance(loss, Squared | Tweedie):
        bend = (loss.bent(scores + step, targets)[0] - loss.bent(scores - step, targets)[0]) / (2 * step)
        assert np.allclose(curve, bend, rtol=1e-6)
    first = loss.begin(targets, np.ones(200))
    around = [loss.of(np.full(200, first + away), targets).sum() for away in (-0.2, 0.0, 0.2)]
    assert around[1] <= min(around) + 1e-9


def test_the_weighted_quantile_is_that_of_repeated_values() -> None:
    values, weights = np.array([3.0, 1.0, 2.0, 5.0]), np.array([2.0, 1.0, 3.0, 2.0])
    repeated = np.sort(np.repeat(values, weights.astype(int)))
    for share in (0.1, 0.3, 0.5, 0.76, 0.99):
        assert weighted_quantile(values, weights, share) == repeated[int(np.ceil(share * 8)) - 1]


def boosted(features, targets, loss="squared", trees=150, monotone=(), categorical=(), **settings):
    bins, rng = Bins.learn(features, categorical), np.random.default_rng(0)
    weights = np.ones(len(targets))
    split = int(len(targets) * 0.8)
    binned = bins.apply(features)
    rows = [Rows(binned[:, part], targets[part], weights[part]) for part in (slice(split), slice(split, None))]
    pool = settings.pop("pool", None)
    share = settings.pop("share", 0.5)
    model = Boosting(Shape(leaves=15), loss_named(loss, share), trees, **settings)
    return model.fit(bins, *rows, rng, monotone=monotone, pool=pool), bins


def known_function(count: int, seed: int):
    rng = np.random.default_rng(seed)
    features = rng.uniform(-1, 1, (count, 5))
    truth = np.sin(3 * features[:, 0]) + features[:, 1] * features[:, 2] + (features[:, 3] > 0.2)
    return features, truth, truth + 0.3 * rng.normal(size=count)


def test_it_reaches_the_noise_of_a_known_function_and_stops_where_it_is_best() -> None:
    features, _, targets = known_function(12_000, 0)
    model, bins = boosted(features, targets, trees=400, rate=0.1, patience=15)
    new, truth, _ = known_function(4_000, 1)
    assert np.sqrt(((model.score(bins.apply(new)) - truth) ** 2).mean()) < 0.11  # the noise is 0.3
    assert np.argmin(model.later_losses) + 1 == len(model.trees)
    assert len(model.later_losses) - len(model.trees) in (0, 15)
    learned = (model.score(bins.apply(features[:9_600])) - targets[:9_600]) ** 2 / 2
    assert learned.mean() == pytest.approx(model.losses[len(model.trees) - 1])  # as it was while growing
    gains = model.gains()
    assert gains[4] < 0.02 * gains.max() and (gains[:4] > 10 * gains[4]).all()


def test_missing_values_and_categories_tell_what_they_know() -> None:
    rng = np.random.default_rng(2)
    features = np.column_stack([rng.normal(size=6000), rng.integers(0, 30, 6000)])
    effect = rng.normal(size=30)
    missing = rng.random(6000) < 0.3
    targets = np.where(missing, 3.0, 0.0) + effect[features[:, 1].astype(int)] + 0.1 * rng.normal(size=6000)
    features[missing, 0] = np.nan
    model, bins = boosted(features, targets, categorical=(False, True), rate=0.2)
    asked = np.column_stack([np.full(60, 0.1), np.tile(np.arange(30), 2)])
    asked[30:, 0] = np.nan
    said = model.score(bins.apply(asked))
    assert np.abs(said - np.where(np.isnan(asked[:, 0]), 3.0, 0.0) - effect[asked[:, 1].astype(int)]).max() < 0.3
    unseen = bins.apply(np.array([[0.1, 99.0], [0.1, np.nan]]))
    assert (unseen[1] == MISSING).all()


@pytest.mark.parametrize("sign", [1, -1])
def test_a_monotone_feature_is_followed_one_way_only(sign: int) -> None:
    rng = np.random.default_rng(4)
    features = rng.uniform(-1, 1, (3000, 2))
    targets = np.sin(4 * features[:, 0]) + features[:, 1] + 0.2 * rng.normal(size=3000)
    model, bins = boosted(features, targets, monotone=(sign, 0))
    line = np.linspace(-1, 1, 300)
    for other in (-0.7, 0.0, 0.7):
        said = model.score(bins.apply(np.column_stack([line, np.full(300, other)])))
        assert (sign * np.diff(said) >= -1e-12).all()
    assert np.ptp(said) > 0.2


@pytest.mark.parametrize("share", [0.1, 0.5, 0.9])
def test_a_quantile_lies_above_as_many_as_it_says(share: float) -> None:
    rng = np.random.default_rng(5)
    features = rng.uniform(0, 1, (30_000, 2))
    targets = features[:, 0] + (0.2 + features[:, 1]) * rng.normal(size=30_000)
    model, bins = boosted(features[:10_000], targets[:10_000], "quantile", share=share, trees=80)
    assert abs((targets[10_000:] < model.score(bins.apply(features[10_000:]))).mean() - share) < 0.02


def test_the_same_to_the_bit_whatever_shares_the_work_and_after_storing() -> None:
    rng = np.random.default_rng(6)
    features = rng.normal(size=(40_000, 60))
    targets = features[:, 0] + rng.normal(size=40_000)
    settings = {"trees": 4, "rows": 0.9, "columns": 0.7}
    one, bins = boosted(features, targets, **settings)
    with ThreadPoolExecutor(1) as pool:
        two, _ = boosted(features, targets, pool=pool, **settings)
    binned = bins.apply(features)
    assert one.score(binned).tobytes() == two.score(binned).tobytes()
    again = Boosted.from_arrays(Bins.from_document(bins.document()), one.base, one.arrays())
    assert again.score(binned).tobytes() == one.score(binned).tobytes()


def test_what_features_add_is_that_of_all_subsets() -> None:
    rng = np.random.default_rng(9)
    features = rng.normal(size=(800, 4))
    features[rng.random((800, 4)) < 0.1] = np.nan
    targets = np.nan_to_num(features[:, 0] * features[:, 1]) + np.nan_to_num(features[:, 2])
    model, bins = boosted(features, targets, trees=3, rate=0.5)
    binned = bins.apply(features[:5])
    shares, average = attribute(model, binned)
    assert np.allclose(shares.sum(axis=1) + average, model.score(binned))

    def said(tree, row, known, at=0):
        """What a tree says of a row of which only some features are known, node by node."""
        if tree.features[at] < 0:
            return tree.values[at]
        left, right = tree.lefts[at], tree.rights[at]
        if tree.features[at] in known:
            return said(tree, row, known, left if tree.left_bins[at, binned[tree.features[at], row]] else right)
        parts = [tree.weights[child] * said(tree, row, known, child) for child in (left, right)]
        return sum(parts) / tree.weights[at]

    for row, feature in itertools.product(range(5), range(4)):
        others, exact = [each for each in range(4) if each != feature], 0.0
        for size in range(4):
            for some in itertools.combinations(others, size):
                weight = 1 / (4 * math.comb(3, size))
                more = [said(tree, row, {*some, feature}) - said(tree, row, set(some)) for tree in model.trees]
                exact += weight * sum(more)
        assert shares[row, feature] == pytest.approx(exact, abs=1e-12)


def panel(count: int = 1500, level: float = 50.0) -> pt.Panel:
    hours, rng = np.arange(count), np.random.default_rng(7)
    week = np.where(hours // 24 % 7 >= 5, -6.0, 0.0) * (hours % 24 > 8)
    values = level + 9 * np.sin(2 * np.pi * hours / 24) + week + rng.normal(size=count)
    return pt.Panel.from_arrays({"a": values, "b": 2 * values + rng.normal(size=count)}, start="2024-01-01", step="1h")


@pytest.mark.parametrize(("steps", "ahead"), [("together", 24), ("apart", 3)])
def test_it_beats_last_week_and_the_step_tells(steps: str, ahead: int) -> None:
    entered = {"week": pt.forecaster("seasonal_last_value", period=168),
               "trees": pt.forecaster("boosted_trees", steps=steps, trees=40)}  # fmt: skip
    report = pt.walk_forward(panel(), entered, pt.Folds.expanding(2, ahead, span=96, every=ahead), metrics=("mae",))
    assert report.board.row("trees")["skill"] > 0.07  # of 40 trees, whatever rows they draw
    fitted = entered["trees"].fit(panel(), until=1300, horizon=ahead)
    assert "windows learned" in fitted.summary["a"] and ("trees a step" in fitted.summary["a"]) == (steps == "apart")
    names = list(fitted.parameters["a"])
    assert "168 before the target" in names and "step ahead" not in names[:1]
    assert sum(fitted.parameters["a"].values()) == pytest.approx(1)


def test_losses_of_counts_want_counts() -> None:
    counts = np.random.default_rng(8).poisson(3 + 2 * np.sin(np.arange(1200) * np.pi / 12)).astype(float)
    of_counts = pt.Panel.from_arrays({"a": counts}, start="2024-01-01", step="1h")
    for loss in ("poisson", "tweedie"):
        forecast = (
            pt.forecaster("boosted_trees", loss=loss, trees=40).fit(of_counts, until=1150, horizon=24).forecast(24)
        )
        mean = forecast.mean["a"] if isinstance(forecast.mean, dict) else np.asarray(forecast.mean).ravel()
        assert (mean > 0).all() and np.abs(mean.mean() - 3) < 0.7
        with pytest.raises(InputError, match="no value may be negative"):
            pt.forecaster("boosted_trees", loss=loss).fit(panel(level=0.0), until=1000, horizon=24)


def test_quantiles_together_hold_what_they_say_and_never_cross() -> None:
    rng, hours = np.random.default_rng(3), np.arange(9000)
    spread = 1 + 3 * (hours % 24 > 12)
    values = 100 + 20 * np.sin(2 * np.pi * hours / 24) + spread * rng.normal(size=9000)
    data = pt.Panel.from_arrays({"a": values}, start="2024-01-01", step="1h")
    model = pt.forecaster("boosted_trees", loss="quantiles", trees=60, lags=[1, 24], calendar=["hour_of_day"])
    fitted = model.fit(data, until=4000, horizon=1, levels=(0.5, 0.9))
    assert fitted.has_theory and fitted.state.facts["shares"] == [0.05, 0.25, 0.5, 0.75, 0.95]
    origins = np.arange(4000, 8990)
    flat = fitted.means(data, origins, 1)[1]
    ends = fitted.ranges(data, origins, flat, (0.5, 0.9), np.zeros((0, 1, 1)))[:, :, 0, :, 0]
    truth = values[origins]
    for (low, high), level in zip(ends, (0.5, 0.9), strict=True):
        assert abs(((low <= truth) & (truth <= high)).mean() - level) < 0.05
    assert (ends[1, 0] <= ends[0, 0]).all() and (ends[0, 1] <= ends[1, 1]).all()
    assert ((ends[0, 0] <= flat[0, :, 0]) & (flat[0, :, 0] <= ends[0, 1])).all()
    wide, calm = (np.ptp(ends[1], axis=0)[(spread > 1)[origins] == some].mean() for some in (True, False))
    assert wide > 2 * calm


def test_a_forecast_only_rises_with_what_it_is_told_to_rise_with() -> None:
    rng = np.random.default_rng(4)
    values = np.sin(np.arange(800) * 0.7) + 0.5 * rng.normal(size=800)
    data = pt.Panel.from_arrays({"a": values}, start="2024-01-01", step="1h")
    for name, sign in (("rising", 1), ("falling", -1)):
        model = pt.forecaster("boosted_trees", lags=[1, 2, 3], trees=30, leaf_rows=2, **{name: ["lag 2"]})
        fitted = model.fit(data, horizon=1)
        rows = np.tile(rng.normal(size=(40, 1, 3)), (1, 25, 1))
        rows[:, :, 1] = np.linspace(-2, 2, 25)
        said = fitted.contender.forecaster.predict(fitted.state, rows.reshape(-1, 3), np.zeros(1000, dtype=int))
        assert (sign * np.diff(said.reshape(40, 25), axis=1) >= -1e-12).all() and np.ptp(said) > 0
    with pytest.raises(pt.SettingsError, match="lag 9"):
        pt.forecaster("boosted_trees", lags=[1], rising=["lag 9"]).fit(data, horizon=1)


def test_slots_told_as_numbers_are_split_as_categories() -> None:
    """Odd hours are high: no order of the numbers tells, and two leaves suffice."""
    rng, hours = np.random.default_rng(5), np.arange(1200)
    data = pt.Panel.from_arrays({"a": 5.0 * (hours % 2) + 0.1 * rng.normal(size=1200)}, start="2024-01-01", step="1h")
    number = [pt.windows.CalendarCycle(field="hour_of_day", form="number")]
    model = pt.forecaster("boosted_trees", lags=[5, 11], more=number, leaves=2, trees=200, rate=0.3, columns=1.0)
    fitted = model.fit(data, until=1000, horizon=1)
    assert next(iter(fitted.parameters)) == "hour_of_day"
    off = fitted.means(data, np.arange(1000, 1199), 1)[0][0, :, 0] - data["a"][1000:1199]
    assert np.abs(off).mean() < 0.2
