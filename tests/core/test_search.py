"""Searches: within a budget, the same again, nothing held up by what hangs or fails, and honest about luck."""

import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import proteron as pt
from proteron.core.errors import StoppedError
from proteron.core.experiment import Experiment, run_experiment
from proteron.core.forecasters.intermittent import Intermittent
from proteron.core.forecasters.smoothing.average import SmoothingAverage
from proteron.core.forecasters.structural import Structural
from proteron.core.forecasters.theta import Theta
from proteron.core.search import Contest, Heard, Race, Rung, SearchSettings, Space, Step, proposed
from proteron.core.search.luck import reality_check
from proteron.core.search.race import rungs_of
from proteron.core.search.report import TrialFacts, importance_of

FOLDS = pt.Folds.expanding(count=7, horizon=6, sealed=1)
CHEAP = Space.parse(
    {"families": [
        {"forecaster": {"kind": "theta"}},
        {"forecaster": {"kind": "ridge", "plan": {"lags": list(range(1, 13))}},
         "chains": [{}, {"stages": [{"kind": "log"}]}],
         "ranges": [{"setting": "strength", "low": 0.01, "high": 100, "log": True}]},
        {"forecaster": {"kind": "moving_average"}, "ranges": [{"setting": "length", "choices": [2, 3, 12]}]},
        {"forecaster": {"kind": "seasonal_mean"}},
    ]}
)  # fmt: skip


def seasonal(rng: np.random.Generator, series: int = 2) -> pt.Panel:
    month = np.arange(96)
    return pt.Panel.from_arrays(
        {f"s{row}": 80 + 10 * np.sin(month * np.pi / 6) + 0.2 * month + rng.normal(size=96) for row in range(series)},
        "2016-01-01", "1 month",
    )  # fmt: skip


@pytest.fixture
def panel(rng: np.random.Generator) -> pt.Panel:
    return seasonal(rng)


def told(report: pt.SearchReport) -> list[Any]:
    """What a search came to, without how long it took."""
    return [(each.name, each.contender.hash, each.errors, each.state, each.fits, each.weight) for each in report.trials]


def test_a_budget_in_fits_gives_the_same_again_whatever_the_workers_and_however_often_killed(panel: pt.Panel) -> None:
    settings: dict[str, Any] = {"fits": 60, "folds": FOLDS, "space": CHEAP, "seed": 3}
    one, two = (pt.search(panel, workers=workers, **settings) for workers in (1, 2))
    assert told(one) == told(two) and 50 <= one.fits <= 60 == sum(each.fits for each in one.trials) + 60 - one.fits
    assert repr(one.board) == repr(two.board) and one.weights == two.weights
    killed, rng = None, np.random.default_rng(5)
    for most in sorted(rng.choice(np.arange(2, 50), 10, replace=False).tolist()):
        heard: list[Any] = []
        killed = pt.search(panel, before=killed, progress=heard.append, stop_asked=lambda m=most, h=heard: len(h) > m,
                           **settings)  # fmt: skip
    done = pt.search(panel, before=killed, **settings)
    assert (
        told(done) == told(one)
        and done.weights == one.weights
        and done.summary.split(" s.")[1] == (one.summary.split(" s.")[1])
    )
    more = pt.search(panel, before=one, **{**settings, "fits": 90})
    assert more.fits > one.fits and [each.name for each in more.trials][: len(one.trials)] == (
        [each.name for each in one.trials]
    )


def test_what_is_found_is_ordinary_and_sealed_folds_were_not_touched(panel: pt.Panel) -> None:
    found = pt.search(panel, fits=60, folds=FOLDS, space=CHEAP)
    spoiled = panel.values.copy()
    ends = np.cumsum(panel.lengths)
    for end in ends:
        spoiled[end - 6 : end] = 1e6
    assert told(pt.search(panel.with_values(spoiled), fits=60, folds=FOLDS, space=CHEAP)) == told(found)
    entered = {found.report.baseline: pt.forecaster("seasonal_last_value"), "best": found.best, "blend": found.blend}
    again = pt.walk_forward(panel, entered, FOLDS)
    row = found.board.row(found.blend_name or "")
    assert again.board.row("best").skill == found.board.row(found.best_name or "").skill
    assert again.board.row("blend").skill == pytest.approx(row.skill, rel=1e-12)
    assert "1 sealed fold not looked at yet" in found.summary
    blend, best = found.sealed.finalists
    assert blend.sealed == again.break_seal("blend").board.row("blend").skill and blend.search == row.skill
    assert best.difference == pytest.approx((best.search or 0) - (best.sealed or 0))
    assert "On the sealed folds blend of" in found.summary and "points" in found.summary
    weights = [each.weight for each in found.trials if each.weight is not None]
    assert sum(weights) == pytest.approx(1) and set(found.weights) == {"s0", "s1"}
    assert found.to_arrow().num_rows == len(found.trials) and found.document["settings"]["fits"] == found.fits


@pytest.fixture
def planted(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """Families that hang, raise, forecast nothing, and take ten gigabytes; processes are forked, so they know of it."""
    monkeypatch.setattr("proteron.core.search.processes.threading.active_count", lambda: 1)

    def hang(*_: object) -> None:
        while True:
            time.sleep(0.01)

    def crash(*_: object) -> None:
        raise ValueError("planted")

    def eat(*_: object) -> list[Any]:
        return [np.ones(10**7) for _ in range(130)]

    monkeypatch.setattr(Theta, "learn", hang)
    monkeypatch.setattr(SmoothingAverage, "learn", crash)
    monkeypatch.setattr(Structural, "learn", eat)
    monkeypatch.setattr(
        Intermittent, "means", lambda self, state, panel, at, steps: np.full((2, len(at), steps), np.nan)
    )
    yield


def test_what_hangs_fails_or_needs_too_much_is_named_and_the_rest_goes_on(panel: pt.Panel, planted: None) -> None:
    sound = [each.document() for each in CHEAP.families[1:]]
    wrong = [{"forecaster": {"kind": kind}} for kind in ("theta", "smoothing_average", "structural", "intermittent")]
    settings: dict[str, Any] = {"folds": FOLDS, "limit": 2.0, "memory": 2**30}
    found = pt.search(panel, fits=50, space=Space.parse({"families": wrong + sound}), **settings)
    states = {each.name: (each.state, each.reason) for each in found.trials}
    assert states["theta"] == ("stalled", "A fit took longer than 2 s and was stopped.")
    assert states["average of smoothings"] == ("failed", "ValueError: planted")
    assert states["structural"][0] == "failed" and "memory" in states["structural"][1]
    assert states["intermittent demand"] == ("failed", "It forecast nothing: no value was finite.")
    alone = pt.search(panel, fits=45, space=Space.parse({"families": sound}), **settings)
    errors = {each.name: each.errors for each in found.trials}
    assert alone.best_name == found.best_name
    assert all(errors[each.name].items() >= {0: each.errors[0]}.items() for each in alone.trials if each.name in errors)


def test_seconds_are_kept_and_a_stop_keeps_what_is_there(panel: pt.Panel) -> None:
    idle = threading.Timer(60, bool)  # beside another thread processes take seconds to begin, which do not count
    idle.start()
    heard: list[Any] = []
    found = pt.search(panel, seconds=6, folds=FOLDS, progress=heard.append)
    idle.cancel()
    assert found.seconds <= 6 * 1.2 and found.fits > 0 and heard[-1].seconds <= 6 * 1.2
    begun = time.monotonic()
    least = pt.search(panel, seconds=0.01, folds=FOLDS)
    assert time.monotonic() - begun < 6 and least.best_name is None
    assert least.board[0].contender == least.report.baseline
    again = pt.search(panel, fits=found.fits, limit=60, folds=FOLDS, space=found.settings.space)
    assert [(each.name, each.errors) for each in again.trials] == [(each.name, each.errors) for each in found.trials]
    heard.clear()
    stopped = pt.search(
        panel, fits=500, folds=FOLDS, space=CHEAP, progress=heard.append, stop_asked=lambda: len(heard) > 9
    )
    assert stopped.stopped and 10 <= len(heard) <= 14 and stopped.best_name is not None
    with pytest.raises(StoppedError, match="before anything"):
        pt.search(panel, fits=500, folds=FOLDS, space=CHEAP, stop_asked=lambda: True)


def test_where_there_is_nothing_to_find_it_says_so_though_the_best_looks_good(rng: np.random.Generator) -> None:
    skills = []
    for draw in range(3):
        noise = pt.Panel.from_arrays({f"s{row}": rng.normal(size=80) + 50 for row in range(4)}, "2016-01-01", "1 month")
        found = pt.search(noise, fits=110, folds=FOLDS, space=CHEAP, baseline=pt.forecaster("mean"), seed=draw)
        assert found.summary.count("Nothing was found") == 1 and found.luck is not None
        assert found.luck.tries == len(found.trials) and found.luck.expected < found.luck.high
        skills.append((found.board.row(found.best_name or "").skill, found.sealed.finalists[-1].sealed))
    assert max(sealed or 0 for _, sealed in skills) < 0.05
    assert np.mean([search for search, _ in skills]) > np.mean([sealed for _, sealed in skills])


def test_luck_is_that_of_the_best_of_many(rng: np.random.Generator) -> None:
    """Worthless candidates are as good as the best in one of twenty searches; a good one is found out."""
    p_values = []
    for draw in range(60):
        base = rng.chisquare(1, size=(40, 3))
        worthless = [rng.chisquare(1, size=(40, 3)) for _ in range(10)]
        luck = reality_check(worthless, base, draw)
        assert luck is not None and luck.tries == 10 and 0 < luck.expected < luck.high
        p_values.append((luck.p_white, luck.p_hansen))
    white, hansen = np.array(p_values).T
    assert 0 <= (white < 0.1).mean() < 0.2 and (hansen < 0.1).mean() < 0.25 and 0.3 < white.mean() < 0.75
    good = reality_check([*worthless, 0.3 * base], base, 0)
    assert good is not None and good.p_white < 0.01 and good.p_hansen < 0.01
    bad = [base * (1 + each) for each in rng.uniform(2, 5, size=30)]
    fair = reality_check([*bad, 0.75 * base + 0.1 * rng.chisquare(1, size=base.shape)], base, 0)
    assert fair is not None and fair.p_hansen <= fair.p_white
    dropped = np.full(base.shape, np.nan)
    dropped[-1] = 1.0
    many = reality_check([*worthless, *[dropped] * 90], base, 0)
    worse = reality_check([2 * base + each for each in worthless], base, 0)
    assert worse is not None and worse.p_hansen == 1
    assert luck is not None and many is not None and many.tries == 100 and many.expected > luck.expected
    assert reality_check([dropped], base, 0) is None and reality_check([base[:2]], base[:2], 0) is None


def heard(race: Race, steps: list[Step], errors: dict[str, float]) -> None:
    for step in steps:
        name = race.trials[step.trial].name
        race.tell(step, Heard(errors.get(name, 1.0 + step.trial / 100), 0.1))


def test_the_better_half_goes_on_and_the_usual_comes_first() -> None:
    race = Race(CHEAP, (Rung(1), Rung(2), Rung(6)), 0)
    first = race.next()
    assert [(race.trials[each.trial].name, each.rung) for each in first] == [
        ("theta", 0), ("ridge on windows", 0), ("moving average", 0), ("seasonal mean", 0)
    ]  # fmt: skip
    errors = {"theta": 0.5, "ridge on windows": 0.9, "seasonal mean": 2.0}
    heard(race, first, errors)
    second = race.next()
    assert [(race.trials[each.trial].name, each.rung) for each in second] == [
        ("theta", 1), ("ridge on windows", 1), ("moving average", 1), ("ridge on windows, log", 0)
    ]  # fmt: skip
    assert [race.fits_of(each) for each in second] == [1, 1, 1, 1]
    heard(race, second, errors)
    assert race.state_of(race.trials[3]) == "dropped" and race.state_of(race.trials[0]) == "racing"
    third = race.next()
    assert (race.trials[third[0].trial].name, third[0].rung, race.fits_of(third[0])) == ("theta", 2, 4)
    heard(race, third, errors)
    assert race.best is race.trials[0] and race.complete[0].name == "theta" and race.state_of(race.trials[0]) == "kept"
    drawn = [each for each in race.trials if "strength" in each.choice.settings]
    assert drawn and all(0.01 <= each.choice.settings["strength"] <= 100 for each in drawn)
    assert len({each.contender.hash for each in race.trials}) == len(race.trials)


def test_the_better_half_is_told_by_error_and_a_taken_name_gets_a_number() -> None:
    race = Race(CHEAP, (Rung(1), Rung(6)), 0, ("theta",))
    first = race.next()
    heard(race, first, {"theta (2)": 2.0, "ridge on windows": 0.9, "moving average": 0.5, "seasonal mean": 1.5})
    on = [race.trials[each.trial].name for each in race.next() if each.rung == 1]
    assert race.trials[0].name == "theta (2)" and on == ["moving average", "ridge on windows", "seasonal mean"]


def test_a_family_that_stalls_is_left_and_a_budget_is_never_overdrawn() -> None:
    race = Race(CHEAP, (Rung(1), Rung(6)), 0)
    steps = race.next(3)
    assert len(steps) == 3 == len(race.trials)
    for step in steps:
        stalled = race.trials[step.trial].name == "ridge on windows"
        race.tell(step, Heard(None if stalled else 1.0, 1.0, "slow" if stalled else "", stalled))
    assert race.fits == 3 and race.next(0) == []
    while steps := race.next():
        heard(race, steps, {})
        assert len(race.trials) < 40
    assert [each.name for each in race.trials if each.family == 1] == ["ridge on windows"]
    assert race.state_of(race.trials[1]) == "stalled" and race.trials[1].reason == "slow"


def test_large_and_long_panels_begin_with_a_part(rng: np.random.Generator) -> None:
    wide = seasonal(rng, 80)
    rungs = rungs_of(wide, FOLDS.resolve(wide), 0)
    assert len(rungs[0].series) == 20 and [each.folds for each in rungs] == [1, 1, 2, 6] and rungs[1].whole
    race = Race(CHEAP, rungs, 0)
    assert [race.fits_of(Step(0, rung)) for rung in range(4)] == [1, 1, 1, 4]
    long = pt.Panel.from_arrays({"a": rng.normal(size=9000)}, "2020-01-01", "1 hour")
    hourly = pt.Folds.expanding(count=3, horizon=24)
    assert rungs_of(long, hourly.resolve(long), 0)[0].points == 3000
    middling = pt.Panel.from_arrays({"a": rng.normal(size=5990)}, "2020-01-01", "1 hour")
    assert rungs_of(middling, hourly.resolve(middling), 0)[0].points is None
    settings = SearchSettings(fits=8, space=CHEAP)
    baseline = ("last", pt.forecaster("seasonal_last_value"))
    contest = Contest(wide, settings, FOLDS, 0, baseline, ("mase",), (0.8,))
    contest.race.next()
    cells = contest.cells_of(Step(0, 0))
    assert {each.series for each in cells} == {rungs[0].series} and cells[0].fold == 5
    found = pt.search(wide, fits=20, folds=FOLDS, space=CHEAP)
    assert any(0 in each.errors and 1 not in each.errors for each in found.trials)


def test_a_space_is_proposed_from_what_is_known_and_refuses_nonsense(panel: pt.Panel) -> None:
    kinds = [each.forecaster.kind for each in proposed(panel).families]
    assert kinds[:3] == ["theta", "season_aligned_ridge", "ridge"] and "boosted_trees" in kinds
    logs = {each.forecaster.kind: len(each.chains) for each in proposed(panel).families}
    below = {each.forecaster.kind: len(each.chains) for each in proposed(panel.with_values(panel.values - 90)).families}
    assert logs["smoothing"] == 2 and below["smoothing"] == 1
    trees = next(each for each in proposed(panel).families if each.forecaster.kind == "boosted_trees")
    draws = [trees.drawn(number, 0) for number in range(64)]
    leaves = [each.settings["leaves"] for each in draws]
    assert min(leaves) < 8 and max(leaves) > 48 and all(isinstance(each, int) for each in leaves)
    assert {each.chain for each in draws} == set(range(len(trees.chains)))
    near = trees.beside(draws[0], 0.01, np.random.default_rng(0))
    assert np.abs(np.array(near.point) - draws[0].point).max() < 0.1
    ridge = {"forecaster": {"kind": "ridge"}}
    for wrong, said in (
        ([{"forecaster": {"kind": "oracle"}}], "oracle"),
        ([ridge | {"ranges": [{"setting": "strength", "low": 2, "high": 1}]}], "needs choices"),
        ([ridge | {"ranges": [{"setting": "strength", "low": 0, "high": 1, "log": True}]}], "above 0"),
        ([ridge | {"ranges": [{"setting": "colour", "low": 0, "high": 1}]}], "colour"),
        ([], "at least 1"),
    ):  # fmt: skip
        with pytest.raises(pt.SettingsError, match=said):
            Space.parse({"families": wrong})
    assert SearchSettings().seconds == 60 and SearchSettings(fits=5).seconds is None
    assert SearchSettings(seconds=100).most_seconds_a_fit == 20 and SearchSettings(seconds=1).most_seconds_a_fit == 2


def test_importance_tells_what_moved_the_error_from_chance(rng: np.random.Generator) -> None:
    trials = []
    for number in range(60):
        strength, noise = float(rng.uniform(0, 9)), float(rng.uniform(0, 1))
        error = float(np.exp(0.3 * (strength > 6) + 0.02 * rng.normal()))
        settings = {"strength": strength, "noise": noise, "chain": "none"}
        trials.append(TrialFacts(str(number), pt.forecaster("ridge"), "ridge", settings, "kept", error, 1, 1, 0.1, "",
                                 {0: error}))  # fmt: skip
    found = {each.setting: each.share for each in importance_of(trials)}
    assert found["strength"] > 0.7 and found["noise"] < 0.1 and "chain" not in found
    assert importance_of(trials)[0].setting == "strength" and importance_of([]) == ()


def test_an_experiment_file_searches_and_puts_what_it_finds_on_the_board(panel: pt.Panel, tmp_path: Path) -> None:
    pt.write_panel(panel, tmp_path / "panel.csv")
    document = {
        "data": {"file": "panel.csv"}, "folds": FOLDS.document(), "outlook": {"horizon": 3},
        "contenders": [{"name": "naive", "forecaster": {"kind": "seasonal_last_value"}}],
        "search": {"fits": 40, "space": CHEAP.document()},
    }  # fmt: skip
    experiment = Experiment.parse(document)
    heard: list[Any] = []
    outcome = run_experiment(experiment, tmp_path, tidings=heard.append)
    assert outcome.search is not None and heard[-1].fits == outcome.search.fits
    names = [row.contender for row in outcome.report.board]
    assert names[0] == "naive" and {"theta", outcome.search.best_name} <= set(names)
    assert outcome.forecast_by in names[1:] and outcome.forecast is not None
