"""The outlook: ranges that hold, paths that belong together, sums and chances from them, words; nothing from later."""

from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from scipy import special

import proteron as pt
from proteron.core.errors import StoppedError
from proteron.core.outlook.chances import chance, peak
from proteron.core.outlook.drawing import drawn
from proteron.core.outlook.errors import PastErrors, rehearsed
from proteron.core.outlook.learned import learned_by
from proteron.core.outlook.limits import Limits
from proteron.core.panel import Floats, Panel

QUICK = pt.forecaster("last_value")


def autoregressive(rng: np.random.Generator, count: int, points: int, weight: float = 0.8) -> Floats:
    out = np.zeros((count, points))
    out[:, 0] = rng.normal(size=count) / np.sqrt(1 - weight**2)
    for at in range(1, points):
        out[:, at] = weight * out[:, at - 1] + rng.normal(size=count)
    return out


def panel_of(rows: Floats, step: str = "1 hour", **rest: Any) -> Panel:
    return Panel.from_arrays({f"s{n}": row for n, row in enumerate(rows)}, "2024-01-01", step, **rest)


LAWS = {
    "plain": (lambda latent, rng: latent, {}),
    "never below zero": (lambda latent, rng: np.maximum(latent, 0.0), {"floor": 0.0}),
    "up to the whole": (lambda latent, rng: np.clip(80 + 8 * latent, 0, 100), {"floor": 0.0, "ceiling": 100.0}),
    "whole": (lambda latent, rng: rng.poisson(np.exp(2.5 + 0.3 * latent)).astype(float), {"floor": 0.0, "whole": True}),
}


@pytest.mark.parametrize("law", LAWS)
def test_ranges_hold_as_often_as_they_say(law: str) -> None:
    """By 500 rehearsed origins, of series of known law, at every step."""
    of, limits = LAWS[law]
    rng, horizon = np.random.default_rng(3), 3
    rows = of(autoregressive(rng, 3000, 1003 + horizon), rng)
    made = pt.outlook(panel_of(rows[:, :-horizon]), pt.forecaster("seasonal_mean", period=1), horizon=horizon,
                      levels=(0.8, 0.95), paths=1, **limits)  # fmt: skip
    assert len(made.errors.flat) == 500
    truth = rows[:, -horizon:]
    for level, room in ((0.8, 0.03), (0.95, 0.011)):
        held = ((truth >= made.lower[level]) & (truth <= made.upper[level])).mean(axis=0)
        assert (held > level - room).all() and (held < level + room + (law != "plain") * 0.03 * (level < 0.9)).all()
        if law == "plain":
            assert np.abs(np.nanmean(made.coverage[level]) - held.mean()) < 0.03
    if law != "plain":
        assert min(made.lower[0.95].min(), made.mean.min(), made.paths.min()) >= 0
        assert max(made.upper[0.95].max(), made.paths.max()) <= limits.get("ceiling", np.inf)
    if law == "whole":
        for each in (made.lower[0.95], made.upper[0.8], made.mean, made.paths):
            assert (each == np.round(each)).all()


def test_sums_need_paths_that_belong_together() -> None:
    """Over 12 steps and 5 series whose errors go together: joint paths hold as often as they say, others do not."""
    rng, rows, series, steps = np.random.default_rng(1), 300, 4, 12
    together, alone, times = 0, 0, 200
    for number in range(times):
        common = autoregressive(rng, rows + 1, steps, 0.7)
        errors = common[:, None] + 0.5 * autoregressive(rng, (rows + 1) * series, steps).reshape(
            rows + 1, series, steps
        )
        truth = errors[-1].sum()
        for joint in (True, False):
            sums = drawn(errors[:-1], 300, seed=number, joint=joint).sum(axis=(1, 2))
            low, high = np.quantile(sums, [0.025, 0.975])
            held = low <= truth <= high
            together, alone = together + (held and joint), alone + (held and not joint)
    assert 0.92 < together / times < 0.98
    assert alone / times < 0.8


def test_each_step_of_the_paths_has_the_quantiles_of_its_errors() -> None:
    rng = np.random.default_rng(2)
    errors = rng.exponential(size=(400, 2, 3)) * np.array([1.0, 2.0, 4.0])
    errors[:150, 1] = np.nan
    paths = drawn(errors, 20_000, seed=5)
    for share in (0.05, 0.5, 0.95):
        for series in (0, 1):
            own = errors[:, series][np.isfinite(errors[:, series, 0])]
            assert np.quantile(paths[:, series], share, axis=0) == pytest.approx(
                np.quantile(own, share, axis=0), rel=0.1, abs=0.02
            )
    assert np.array_equal(paths, drawn(errors, 20_000, seed=5))
    assert not np.array_equal(paths, drawn(errors, 20_000, seed=6))
    few = drawn(rng.normal(size=(5, 1, 1)), 20_000)
    assert np.quantile(few, 0.975) > 2  # Student's t, not the largest of five
    assert np.isnan(drawn(np.full((5, 1, 1), np.nan), 3)).all()
    assert np.isnan(drawn(np.empty((0, 1, 2)), 3)).all()


def walk_exceeds(level: float, steps: int) -> Floats:
    """P(a standard random walk from 0 lies above a level after 1 … steps)."""
    return np.asarray(special.ndtr(-level / np.sqrt(np.arange(1, steps + 1))))


@pytest.mark.parametrize("ranges", ["theory", "errors"])
def test_chances_are_those_of_the_law(ranges: Any) -> None:
    """A random walk, and an autoregression, against closed forms; ever above by Siegmund's correction (1985)."""
    steps, level = 10, 2.5
    rng = np.random.default_rng(7)
    close = 0.03 if ranges == "theory" else 0.07
    walk = np.cumsum(rng.normal(size=4000))
    made = pt.outlook(panel_of(walk[None]), QUICK, horizon=steps, ranges=ranges, paths=8000)
    found = made.chance(above=walk[-1] + level)
    assert found.each[0] == pytest.approx(walk_exceeds(level, steps), abs=close)
    ever = 2 * special.ndtr(-(level + 0.5826) / np.sqrt(steps))
    assert found.ever[0, -1] == pytest.approx(ever, abs=close)
    assert (np.diff(found.ever[0]) >= 0).all()

    series = autoregressive(rng, 1, 4000)[0]
    order = pt.forecaster("arima", order=(1, 0, 0), seasonal=(0, 0, 0), constant=False)
    made = pt.outlook(panel_of(series[None]), order, horizon=4, ranges=ranges, paths=8000)
    ahead = np.arange(1, 5)
    spread = np.sqrt((1 - 0.8 ** (2 * ahead)) / (1 - 0.64))
    below = special.ndtr((-1.0 - series[-1] * 0.8**ahead) / spread)
    assert made.chance(below=-1.0).each[0] == pytest.approx(below, abs=close)


def test_a_run_is_as_many_steps_in_a_row() -> None:
    paths = np.array([[[1, 5, 5, 1, 5.0]], [[5, 1, 5, 1, 5.0]], [[1, 1, 1, 5, 5.0]], [[5, 5, 5, 5, 5.0]]])
    found = chance(paths, above=3, run=2)
    assert found.each[0].tolist() == [0.5, 0.5, 0.75, 0.5, 1.0]
    assert found.ever[0].tolist() == [0.5, 0.75, 0.75, 1.0, 1.0]
    assert found.run[0].tolist() == [0.0, 0.25, 0.5, 0.5, 0.75]
    assert found.doubt(found.each)[0, 0] == pytest.approx(0.25)
    either = chance(paths, above=3, below=2)
    assert either.each.tolist() == [[1.0] * 5]
    for wrong in ({}, {"above": 1, "run": 6}, {"above": 1, "run": 0}):
        with pytest.raises(pt.SettingsError):
            chance(paths, **wrong)
    top = peak(paths)
    assert top.share[0].tolist() == [0.5, 0.25, 0.0, 0.25, 0.0] and top.likeliest.tolist() == [0]
    assert peak(paths, lowest=True).height[:, 0].tolist() == [1, 1, 1, 5]


def made_from(paths: Floats, mean: Floats, panel: Panel) -> pt.Outlook:
    """An outlook with paths and means of one's own."""
    made = pt.outlook(panel, QUICK, horizon=mean.shape[1], paths=1)
    return replace(made, mean=mean, paths=paths)


def test_totals_go_by_the_clock_of_the_zone_and_count_what_is_known() -> None:
    """The autumn day of 25 hours; a day that has begun; groups; against sums by hand."""
    rng = np.random.default_rng(4)
    known = rng.uniform(1, 2, size=(2, 24 * 13 + 5))
    panel = Panel.from_arrays({"a": known[0], "b": known[1]}, "2024-10-14", "1 hour", zone="Europe/Lisbon")
    steps = 19 + 1 + 24  # what is left of Sunday the 27th, which has 25 hours, and Monday
    paths = rng.uniform(1, 2, size=(200, 2, steps))
    made = made_from(paths, paths.mean(axis=0), panel)
    day = made.total(by="1 day", over={"town": ["a", "b"]})
    assert day.starts.astype("datetime64[D]").astype(str).tolist() == ["2024-10-27", "2024-10-28"]
    first = known[:, -5:].sum() + paths[:, :, :20].sum(axis=(1, 2))
    assert day.paths[:, 0, 0] == pytest.approx(first)
    assert day.mean[0] == pytest.approx([first.mean(), paths[:, :, 20:].sum(axis=(1, 2)).mean()])
    assert day.forecast.tolist() == [20, 24] and day.known.tolist() == [[5, 0]] and day.whole.all()
    assert made.total(by="1 week").starts.astype("datetime64[D]").astype(str).tolist() == ["2024-10-21", "2024-10-28"]
    month = made.total(by="month", how="max")
    assert month.groups == ("a", "b") and not month.whole.any() and month.known.tolist() == [[24 * 13 + 5]] * 2
    assert month.paths[:, 1, 0] == pytest.approx(np.maximum(paths[:, 1].max(axis=1), known[1].max()))
    whole = made.total(how="mean")
    assert whole.mean[:, 0] == pytest.approx(paths.mean(axis=(0, 2))) and whole.known.sum() == 0
    assert made.total(by="1 day", how="last").paths[:, 0] == pytest.approx(paths[:, 0][:, [19, 43]])
    lowest = made.total(by="6 hours", how="min")
    assert lowest.paths[0, 0, 0] == pytest.approx(min(known[0, -5:].min(), paths[0, 0, :2].min()))
    assert day.lower[0.95][0, 0] < np.median(first) < day.upper[0.95][0, 0]
    assert day.to_arrow().column_names[:3] == ["start", "group", "mean"]
    for wrong in ({"by": "1 minute"}, {"by": "5 hours"}, {"how": "median"}, {"over": {}}, {"over": {"x": []}},
                  {"by": "business day"}, {"by": "5 months"}, {"over": {"x": ["nobody"]}}):  # fmt: skip
        with pytest.raises(pt.ProteronError):
            made.total(**wrong)
    assert made.in_stock(0.9, 3) == pytest.approx(np.quantile(paths[:, :, :3].sum(axis=2), 0.9, axis=0))
    assert made.quantile(0.9) == pytest.approx(np.quantile(paths, 0.9, axis=0))


def test_months_that_are_not_all_known_say_so() -> None:
    values = np.arange(1.0, 32)
    values[3] = np.nan
    made = made_from(np.full((2, 1, 29), 2.0), np.full((1, 29), 2.0), panel_of(values[None], "1 day"))
    found = made.total(by="month")
    assert found.whole.tolist() == [[True]] and found.mean.tolist() == [[58.0]]
    late = made_from(np.full((2, 1, 5), 2.0), np.full((1, 5), 2.0), panel_of(values[None, :-2], "1 day"))
    both = late.total(by="month")
    assert both.known.tolist() == [[28, 0]] and both.whole.tolist() == [[False, False]]
    assert both.mean.tolist() == [[np.nansum(values[:-2]) + 4.0, 6.0]]


def test_rehearsed_errors_are_those_of_forecasts_made_then() -> None:
    """Against a slow twin that learns at the same three places and forecasts from each origin alone."""
    rng = np.random.default_rng(6)
    panel = panel_of(10 + autoregressive(rng, 2, 90).cumsum(axis=1), "1 day")
    contender = pt.forecaster("smoothing", trend=None, season=None, chain=pt.Chain([pt.flatten.RobustScale()]))
    found = rehearsed(panel, contender, 4, most=12)
    assert found.origins[0] == 45 and found.origins[-1] == 86 and found.horizon == 4
    for row, origin in enumerate(found.origins.tolist()):
        learned = max(at for at in found.origins[::4].tolist() if at <= origin)
        fitted = contender.fit(panel, until=learned, horizon=4)
        flat = fitted.means(panel.cut_at(origin), np.array([origin]), 4)[1][:, 0]
        truth = fitted.chain.apply(panel)
        for index in range(2):
            assert found.flat[row, index] == pytest.approx(flat[index] - truth.series(index)[origin : origin + 4])
    assert not len(rehearsed(panel.cut_at(5), contender, 4).flat)


def test_the_numbers_do_not_depend_on_how_many_work_at_them() -> None:
    rows = 20 + autoregressive(np.random.default_rng(14), 5, 260)
    rows[3, :200] = np.nan
    told: list[float] = []
    asked: dict[str, Any] = {"horizon": 4, "paths": 10, "rehearsals": 40}
    one = pt.outlook(panel_of(rows), pt.forecaster("theta"), **asked)
    two = pt.outlook(panel_of(rows), pt.forecaster("theta"), **asked, workers=2, progress=told.append)
    for name in ("mean", "paths"):
        assert np.array_equal(getattr(one, name), getattr(two, name), equal_nan=True)
    assert np.array_equal(one.errors.flat, two.errors.flat, equal_nan=True)
    assert told == sorted(told) and told[-1] == 1 and len(told) == 15


def test_what_lies_after_the_cutoff_changes_nothing() -> None:
    rng = np.random.default_rng(8)
    rows = autoregressive(rng, 2, 300)
    spoiled = rows.copy()
    spoiled[:, 200:] = rng.normal(size=(2, 100)) * 1e3
    contender = pt.forecaster("ridge", lags=[1, 2, 3], chain=pt.Chain([pt.flatten.RobustScale()]))
    one, other = (pt.outlook(panel_of(each), contender, horizon=6, until=200, paths=20) for each in (rows, spoiled))
    assert one.origin == 200
    for name in ("mean", "paths"):
        assert np.array_equal(getattr(one, name), getattr(other, name))
    assert np.array_equal(one.lower[0.95], other.lower[0.95]) and np.array_equal(one.errors.flat, other.errors.flat)
    assert not np.array_equal(one.redrawn(20, seed=1).paths, one.paths)
    assert np.array_equal(one.redrawn(20).paths, one.paths)
    assert not np.array_equal(one.redrawn(20, joint=False).paths[:, 1], one.paths[:, 1])


def test_how_often_earlier_ranges_held_is_told() -> None:
    """A law that widens is noticed; a single block says nothing."""
    rng = np.random.default_rng(9)
    flat = rng.normal(size=(500, 2, 2))
    flat[250:] *= 3
    held, of = PastErrors(flat, np.arange(500), "rehearsals").held([0.8, 0.95])
    assert of.tolist() == [800, 800] and (held[0] < 0.72).all()
    calm, _ = PastErrors(rng.normal(size=(500, 2, 2)), np.arange(500), "rehearsals").held([0.8, 0.95])
    assert calm[0] == pytest.approx([0.8, 0.8], abs=0.05) and calm[1] == pytest.approx([0.95, 0.95], abs=0.03)
    assert np.isnan(PastErrors(flat[:3], np.zeros(3, dtype=int), "rehearsals").held([0.8])[0]).all()


@pytest.mark.parametrize(
    ("step", "to", "steps"),
    [("1 hour", "2024-01-11", 24), ("1 hour", "2024-01-11 03:00", 4), ("1 hour", 245, 5), ("1 day", "2024-09", 34)],
)
def test_it_forecasts_up_to_a_day_or_a_time(step: str, to: Any, steps: int, tmp_path: Any) -> None:
    """Of a day up to its last step, of a month up to its last day; known are 240 steps, to 10 January or 27 August."""
    panel = panel_of(autoregressive(np.random.default_rng(16), 1, 240), step)
    made = pt.outlook(panel, QUICK, to=to, paths=5)
    assert made.horizon == steps
    with pytest.raises(pt.SettingsError, match="is not ahead: everything is known up to"):
        pt.outlook(panel, QUICK, to="2024-01-01")
    with pytest.raises(pt.SettingsError, match="no format"):
        made.write(tmp_path / "x.paper")
    assert made.write(tmp_path / "x.csv").read_text("utf-8").count("\n") == made.horizon + 1


def test_limits_are_kept_and_said() -> None:
    limits = Limits(0.5, 7.5, whole=True)
    assert limits.kept(np.array([-3, 0.7, 2.4, 9, np.nan])).tolist()[:4] == [1, 1, 2, 7]
    ends = limits.ends(np.array([[[1.2, 2.6, -4.0], [3.9, 2.9, 99.0]]]))
    assert ends.tolist() == [[[2, 3, 1], [3, 3, 7]]]
    said = Limits(0.0).in_words(np.array([-1.0, 1, 2, 3]))
    assert said == "25 % of the steps of all paths are cut at the floor."
    assert Limits(0.0).in_words(np.array([1.0])) == "" == Limits().in_words(np.array([-1.0]))
    assert Limits(ceiling=2.0, whole=True).in_words(np.array([3.0])).endswith("rounded to whole numbers.")
    for wrong in ({"floor": 2, "ceiling": 2}, {"floor": np.inf}, {"floor": 0.2, "ceiling": 0.8, "whole": True}):
        with pytest.raises(pt.SettingsError):
            Limits(**wrong)


def test_words_say_what_is_so() -> None:
    rng = np.random.default_rng(10)
    panel = Panel.from_arrays({"north": 50 + rng.normal(size=200)}, "2024-01-01", "1 hour")
    made = pt.outlook(panel, pt.forecaster("mean"), horizon=2, levels=(0.5, 0.9), paths=200)
    low, high = made.lower[0.9][0, 1], made.upper[0.9][0, 1]
    assert made.sentence("2024-01-09 09:00", unit="m³/h") == (
        f"On Tuesday 9 January 2024 at 09:00, north is expected at {made.mean[0, 1]:.2f} m³/h; in 90 of 100 such cases "
        f"it lies between {low:.2f} and {high:.2f} m³/h."
    )
    assert made.sentence(above=49, level=0.5).endswith(f"{100 * made.chance(above=49).each[0, 0]:.0f} in 100.")
    assert made.sentence(above=1e6).endswith("then: 0 in 100.")
    paragraph = made.paragraph()
    assert "about as in the 2 steps before" in paragraph
    assert "Ranges of 90 % reach" in paragraph and "origins of rehearsals. Such ranges held" in paragraph
    with pytest.raises(pt.InputError):
        made.sentence("2024-01-09 10:00")
    with pytest.raises(pt.SettingsError):
        made.sentence(level=0.7)
    monthly = Panel.from_arrays({"a": np.arange(60.0)}, "2020-01-01", "1 month")
    rising = pt.outlook(monthly, pt.forecaster("drift"), horizon=12)
    assert rising.sentence().startswith("In January 2025, a is expected at 60.00")
    assert "12.00 more than in the 12 steps before. It is highest in December 2025" in rising.paragraph()


def test_what_cannot_be_asked_is_refused_and_short_series_are_said() -> None:
    panel = panel_of(np.arange(9.0)[None] + np.array([[0, 1, 0, 1, 0, 1, 0, 1, 0.0]]), "1 day")
    made = pt.outlook(panel, QUICK, horizon=3, paths=10)
    assert made.ranges == "theory" and "no errors out of sample" in made.notes[0]
    assert "not from errors out of sample." in made.paragraph() and "held" not in made.paragraph()
    assert np.isnan(made.coverage[0.95]).all() and made.how == "theory"
    assert made.paths.shape == (10, 1, 3) and (made.lower[0.95] <= made.lower[0.5]).all()
    for wrong in ({"ranges": "hope"}, {"paths": 0}, {"horizon": -1}, {"floor": 1, "ceiling": 0}):
        with pytest.raises(pt.SettingsError):
            pt.outlook(panel, QUICK, **{"horizon": 3, **wrong})
    with pytest.raises(StoppedError):
        pt.outlook(panel_of(autoregressive(np.random.default_rng(0), 1, 100)), QUICK, stop_asked=lambda: True)


@pytest.mark.parametrize("kind", ["smoothing", "arima", "ridge", "seasonal_last_value"])
def test_what_was_learned_forecasts_from_newer_data_without_learning(kind: str, tmp_path: Any) -> None:
    """To the bit as it would from where it stands; of some of its series, too; of others it refuses in words."""
    rng = np.random.default_rng(11)
    rows = 20 + autoregressive(rng, 3, 420)
    whole, settings = panel_of(rows), {"lags": [1, 2, 24]} if kind == "ridge" else {}
    view = pt.outlook(whole, pt.forecaster(kind, **settings), horizon=5, until=400, floor=0, paths=50)
    learned = pt.load_learned(pt.save_learned(view, tmp_path / "learned.proteron"))
    assert "for up to 5 steps" in repr(learned)
    same = learned.outlook(whole.cut_at(400), paths=50)
    assert np.array_equal(same.mean, view.mean) and np.array_equal(same.paths, view.paths)
    assert np.array_equal(same.lower[0.95], view.lower[0.95]) and same.limits == view.limits
    later = learned.outlook(whole, 3, paths=50)
    assert later.origin == 420 and later.horizon == 3
    assert np.array_equal(later.mean, view.fitted.means(whole, np.array([420]), 3)[0][:, 0])
    some = learned.outlook(whole.select([2, 0]).between(300, 420), 3, paths=50)
    assert some.keys == ("s2", "s0") and some.upper[0.8][1] == pytest.approx(later.upper[0.8][0], rel=0.02)
    others = Panel.from_arrays({"s0": rows[0], "new": rows[1]}, "2024-01-01", "1 hour")
    with pytest.raises(pt.InputError, match="Nothing was learned of “new”"):
        learned.outlook(others)
    with pytest.raises(pt.InputError, match="The step is 1 day"):
        learned.outlook(panel_of(rows, "1 day"))
    with pytest.raises(pt.SettingsError, match="1 to 5 steps"):
        learned.outlook(whole, 6)
    with pytest.raises(pt.InputError, match="no learned outlook"):
        pt.load_learned(b"nonsense")


CHAINS = {
    "plain": pt.Chain(),
    "trend and season": pt.Chain([pt.flatten.LinearTrend(), pt.flatten.PeriodMeans(period=24), pt.flatten.ZScore()]),
    "on the logarithm": pt.Chain([pt.flatten.Log(), pt.flatten.LinearTrend(), pt.flatten.PeriodMeans(period=24)]),
}


PIECES = {
    "additive": {"trend", "season 24", "carried on"}, "ridge": {"level", "its own past", "hour of day", "heat"},
    "mean": {"mean"}, "smoothing": {"level", "season"}, "structural": {"level", "trend", "season"},
    "regression": {"intercept", "heat"}, "boosted_trees": {"level", "its own past"}, "blend": {"one", "other"},
}  # fmt: skip


def of_kind(kind: str, chain: pt.Chain) -> pt.Contender:
    settings: dict[str, Any] = {
        "ridge": {"lags": [1, 24], "calendar": ["hour_of_day"], "covariates": [{"column": "heat", "at": [1]}]},
        "boosted_trees": {"lags": [1, 24], "trees": 5}, "structural": {"period": 24},
        "smoothing": {"season": "additive"}, "regression": {"covariates": ["heat"]},
    }.get(kind, {})  # fmt: skip
    if kind == "blend":
        members = {"one": pt.forecaster("mean", chain=chain), "other": pt.forecaster("seasonal_last_value", period=24)}
        return pt.blend(members, weights={"one": 0.25, "other": 0.75})
    return pt.forecaster(kind, chain=chain, **settings)


@pytest.mark.parametrize("chain", CHAINS)
@pytest.mark.parametrize("kind", PIECES)
def test_parts_add_up(kind: str, chain: str) -> None:
    """In the units they are shown in, limits included; a trend alone is the trend's own line."""
    at = np.arange(24 * 30)
    values = 40 + 0.02 * at + 8 * np.sin(at * np.pi / 12) + np.random.default_rng(12).normal(size=len(at))
    heat = np.cos(np.arange(len(at) + 30) / 9)
    panel = panel_of(np.stack([values, values + 5]), covariates={"heat": ("known_ahead", heat)})
    view = pt.outlook(panel, of_kind(kind, CHAINS[chain]), horizon=30, ceiling=60.0, paths=1, rehearsals=1)
    assert sum(view.parts.values()) == pytest.approx(view.mean, abs=1e-9)
    assert ("limits and safeguards" in view.parts) == bool((view.mean == 60.0).any())
    if chain == "plain":
        assert PIECES[kind] <= set(view.parts)
    if kind == "additive" and chain == "plain":
        assert np.ptp(view.parts["season 24"], axis=1) == pytest.approx([16, 16], rel=0.1)
    if kind == "ridge" and chain == "plain":
        assert np.ptp(view.parts["hour of day"], axis=1).min() > np.ptp(view.parts["heat"], axis=1).max()
    if chain == "trend and season" and kind != "blend":
        assert list(view.parts)[:3] == ["linear trend", "period means", "z-score"]


def test_adaptive_ranges_follow_a_law_that_widens() -> None:
    """After errors have doubled, ranges aim higher until they hold again; of a calm law they stay as they are."""
    rng = np.random.default_rng(15)
    flat = rng.normal(size=(600, 3, 2))
    flat[300:] *= 2
    wider, calm = PastErrors(flat, np.arange(600), "rehearsals"), PastErrors(flat[:300], np.arange(300), "rehearsals")
    aims, held, of = wider.adapted([0.8, 0.95])
    assert aims[0] > 0.86 and aims[1] > 0.96 and of.tolist() == [1710, 1710]
    assert (held[0] > wider.held([0.8])[0][0]).all()
    assert calm.adapted([0.8])[0][0] == pytest.approx(0.8, abs=0.04)
    values = np.cumsum(np.concatenate([rng.normal(size=500), 3 * rng.normal(size=300)]))
    plain, adaptive = (
        pt.outlook(panel_of(values[None]), QUICK, horizon=2, ranges=how, paths=10) for how in ("errors", "adaptive")
    )  # type: ignore[arg-type]
    assert adaptive.levels == plain.levels and adaptive.ranges == "adaptive"
    assert (adaptive.upper[0.8] > plain.upper[0.8]).all() and np.array_equal(adaptive.paths, plain.paths)
    assert np.nanmean(adaptive.coverage[0.8]) > np.nanmean(plain.coverage[0.8])
    several = panel_of(np.stack([values, rng.normal(size=800)]))
    whole = pt.outlook(several, QUICK, horizon=2, ranges="adaptive", paths=10)
    alone = learned_by(whole).outlook(several.select([1]), paths=10)  # it aims as with the others
    assert np.array_equal(alone.upper[0.8][0], whole.upper[0.8][1])


def test_parts_have_the_errors_that_theory_states() -> None:
    """Of a regression those of its coefficients; of additive parts as wide as repeated samples scatter; no others."""
    rng, heat = np.random.default_rng(17), np.cos(np.arange(320) / 9)
    covariates = {"heat": ("known_ahead", heat)}
    found, stated = [], []
    for _ in range(60):
        values = 20 + 3 * heat[:300] + rng.normal(size=300)
        panel = panel_of(values[None], covariates=covariates)
        view = pt.outlook(panel, pt.forecaster("regression", covariates=["heat"]), horizon=20, rehearsals=1, paths=1)
        found.append(view.parts["heat"][0, 3] - 3 * heat[303])
        stated.append(view.part_errors["heat"][0, 3])
    assert np.std(found) == pytest.approx(np.mean(stated), rel=0.25)
    assert set(view.part_errors) == {"intercept", "heat"}
    wave = 8 * np.sin(np.arange(300) * np.pi / 12) + rng.normal(size=300)
    added = pt.outlook(panel_of(wave[None]), pt.forecaster("additive"), horizon=5, rehearsals=1, paths=1)
    assert added.part_errors["season 24"].min() > 0 and added.part_errors["season 24"].max() < 1
    assert pt.outlook(panel_of(wave[None]), pt.forecaster("mean"), horizon=5, paths=1).part_errors == {}
    chain = pt.Chain([pt.flatten.ZScore()])
    assert pt.outlook(panel_of(wave[None]), pt.forecaster("additive", chain=chain), horizon=5, rehearsals=1, paths=1
                      ).part_errors == {}  # fmt: skip
