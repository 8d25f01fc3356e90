"""Designs of folds beside walking ones: hold-outs, given times, calendar patterns, chosen months and steps."""

from dataclasses import replace
from datetime import datetime, timedelta

import numpy as np
import pytest
import tomli_w

import proteron as pt
from proteron.core.experiment import Experiment, run_experiment
from proteron.core.judge import Fold, Folds, compute_cell, expand, optimism
from proteron.core.panel import Panel

START = datetime(2024, 1, 5)


def daily(points: int, start: datetime = START, seed: int = 0) -> Panel:
    season = 10 * np.sin(np.arange(points) * 2 * np.pi / 7)
    values = 50 + season + np.random.default_rng(seed).normal(size=points)
    extra = {"air": np.random.default_rng(seed + 1).normal(size=points)}
    return Panel.from_arrays({"a": values}, start.isoformat(), "1 day", covariates=extra)


@pytest.mark.parametrize(
    ("asked", "cutoff"),
    [
        (Folds.single(), 160), (Folds.single(share=0.1), 180), (Folds.single(count=30), 170),
        (Folds.single(at="2024-06-01"), (datetime(2024, 6, 1) - START).days + 1), (Folds.single(at=50), 50),
        (Folds.single(count=30, gap=3), 167),
    ],
)  # fmt: skip
def test_one_hold_out_reaches_the_last_point(asked: Folds, cutoff: int) -> None:
    (fold,) = asked.resolve(daily(200))
    assert (fold.learn_start, fold.cutoff, fold.score_stop, fold.learned_at) == (0, cutoff, 200, None)
    assert fold.score_start == cutoff + asked.gap


def test_folds_at_times_come_in_their_order_and_once_each() -> None:
    panel = daily(200)
    dates = ["2024-06-01", "2024-03-01", "2024-06-01"]
    found = Folds.at(dates, horizon=14, refit=0).resolve(panel)
    assert [fold.cutoff for fold in found] == [57, 149]
    assert [fold.score_stop for fold in found] == [71, 163]
    assert [fold.learned_at for fold in found] == [None, 57]  # learned once
    assert Folds.at([195], horizon=14).resolve(panel)[0].score_stop == 200  # as far as there is something
    with pytest.raises(pt.TooShortError, match="Nothing follows the cutoff after 2024-07-22"):
        Folds.at([200], horizon=14).resolve(panel)
    with pytest.raises(pt.TooShortError, match="nothing to learn from"):
        Folds.at(["2024-01-05", "2024-03-01"], horizon=14).resolve(panel)


def begun(day: datetime, period: str) -> datetime:
    """The first day of the period a day is in."""
    if period == "week":
        return day - timedelta(days=day.weekday())
    months = {"month": 1, "quarter": 3, "year": 12}[period]
    return day.replace(month=(day.month - 1) // months * months + 1, day=1)


@pytest.mark.parametrize("hidden", [False, True])
@pytest.mark.parametrize(("period", "learn"), [("week", 5), ("week", 2), ("month", 20), ("quarter", 60), ("year", 200)])
def test_patterns_of_the_calendar_equal_a_walk_over_the_days(period: str, learn: int, hidden: bool) -> None:
    panel = daily(900)
    wanted: list[tuple[int, int]] = []
    for at in range(900):
        day = START + timedelta(days=at)
        if (day - begun(day, period)).days >= learn:
            if wanted and wanted[-1][1] == at and begun(day - timedelta(days=1), period) == begun(day, period):
                wanted[-1] = (wanted[-1][0], at + 1)
            else:
                wanted.append((at, at + 1))
    folds = Folds.calendar(period, learn, hidden, horizon=3, count=1000).resolve(panel)  # type: ignore[arg-type]
    able = [span for span in wanted if span[0] >= 2]
    assert [(fold.cutoff, fold.score_stop) for fold in folds] == able
    for fold in folds:
        assert fold.hidden == (tuple(span for span in wanted if span[0] <= fold.cutoff) if hidden else ())
    assert [f.cutoff for f in Folds.calendar(period, learn, hidden, horizon=3, count=2).resolve(panel)] == [
        cutoff for cutoff, _ in able[-2:]
    ]  # type: ignore[arg-type]


def test_a_pattern_needs_days_to_learn_and_days_to_score() -> None:
    with pytest.raises(pt.TooShortError, match="No month has 31 days to learn from"):
        Folds.calendar("month", 31).resolve(daily(200))
    with pytest.raises(pt.TooShortError, match="No week has 6 days"):
        Folds.calendar("week", 6, gap=1).resolve(daily(200))


def test_only_chosen_months_are_scored() -> None:
    panel = daily(900)
    folds = Folds.expanding(5, 10, months=[3, 12]).resolve(panel)
    assert len(folds) == 5
    for fold in folds:
        days = [START + timedelta(days=int(at) + step) for at in fold.origins for step in range(fold.horizon)]
        scored = fold.is_scored(fold.origins[:, None] + np.arange(fold.horizon)).ravel()
        stop = START + timedelta(days=fold.score_stop)
        assert [day.month in (3, 12) and day < stop for day in days] == scored.tolist()
        assert scored.any()
    with pytest.raises(pt.TooShortError, match="3 folds lie in the chosen months"):
        Folds.expanding(5, 10, months=[8]).resolve(daily(240))


def test_chosen_steps_are_what_all_steps_say_of_them() -> None:
    panel = daily(120)
    entrants = {"s": pt.forecaster("seasonal_last_value", period=7)}
    alone, whole = (
        pt.walk_forward(panel, entrants, Folds.expanding(3, 6, gap=1, every=1, span=9, **more))
        for more in ({"steps": [7, 3]}, {})
    )  # fmt: skip
    some, every = alone.losses("mae").values, whole.losses("mae").values  # type: ignore[union-attr]
    assert np.array_equal(some[..., [1, 5]], every[..., [1, 5]], equal_nan=True) and np.isfinite(some[..., 1]).any()
    assert np.isnan(some[..., [0, 2, 3, 4]]).all()
    assert alone.folds[0].steps == (3, 7)


@pytest.mark.parametrize("kind", ["ridge", "smoothing", "arima", "seasonal_last_value", "dense_network", "mean"])
def test_what_is_hidden_or_comes_later_changes_no_bit(kind: str) -> None:
    panel = daily(150)
    for fold in Folds.calendar("month", 20, hidden=True, horizon=5, count=2, origin_every=2, refit=0).resolve(panel):
        known = np.ones(150, dtype=bool)
        known[fold.cutoff :] = False
        for start, stop in fold.hidden:
            known[start:stop] = False
        seen = fold.known(panel, fold.score_stop)
        assert np.isfinite(seen.values).tolist() == known[: fold.score_stop].tolist()
        assert np.isfinite(seen.covariates[0].values).tolist() == known[: fold.score_stop].tolist()
        other = daily(150, seed=9)
        spoiled = replace(
            panel,
            values=np.where(known, panel.values, other.values),
            covariates=tuple(
                replace(column, values=np.where(known, column.values, twin.values))
                for column, twin in zip(panel.covariates, other.covariates, strict=True)
            ),
        )
        entrants = {"x": pt.forecaster(kind)}
        (cell,) = expand(panel, entrants, [fold], 0)
        first, second = (compute_cell(each, cell) for each in (panel, spoiled))
        assert np.isfinite(first.mean).any()
        assert first.mean.tobytes() == second.mean.tobytes() and first.ranges.tobytes() == second.ranges.tobytes()


def test_plain_folds_keep_their_documents_and_others_come_back() -> None:
    panel = daily(200)
    plain = Folds.expanding(2, 10).resolve(panel)[0]
    assert set(plain.document()) == {"learn_start", "cutoff", "gap", "horizon", "every", "score_stop"}
    fold = Folds.calendar("month", 20, hidden=True, steps=[2], months=[3, 4], horizon=4).resolve(panel)[-1]
    assert fold.hidden and fold.steps and fold.scored
    assert Fold.from_document(fold.document()) == fold
    assert fold.fit_document()["hidden"] == fold.hidden


DESIGNS = [
    Folds.single(share=0.2, horizon=7), Folds.single(at="2024-05-01", horizon=7),
    Folds.at(["2024-04-01", 130], horizon=7),
    Folds.calendar("week", 4, True, horizon=3, count=4), Folds.sliding(3, 7, length=60, refit=0),
    Folds.expanding(3, 7, steps=[1, 7], months=[5, 6, 7]),
]  # fmt: skip


@pytest.mark.parametrize("design", DESIGNS, ids=lambda design: design.kind)
def test_a_design_is_the_same_in_a_file_and_in_a_notebook(design: Folds, tmp_path) -> None:
    panel = daily(200)
    path = tmp_path / "series.csv"
    lines = [f"{(START + timedelta(days=i)).date()},{value!r}" for i, value in enumerate(panel.values.tolist())]
    path.write_text("time,a\n" + "\n".join(lines) + "\n")
    entrants = {"s": pt.forecaster("seasonal_last_value", period=7), "m": pt.forecaster("mean")}
    read = pt.read_panel(path)
    told = pt.walk_forward(read, entrants, design, baseline="s")
    entries = [{"name": n, "forecaster": f.forecaster.document()} for n, f in entrants.items()]
    chosen = {name: value for name, value in design.document().items() if value is not None}
    document = {"data": {"file": "series.csv"}, "folds": chosen, "baseline": "s", "contenders": entries}
    (tmp_path / "experiment.toml").write_text(tomli_w.dumps(document))
    again = Experiment.load(tmp_path / "experiment.toml")
    assert again.folds == design
    board = run_experiment(again, tmp_path).report.board
    assert [(row.errors, row.skill, row.skill_low) for row in board] == [
        (row.errors, row.skill, row.skill_low) for row in told.board
    ]


@pytest.mark.parametrize(
    ("given", "said"),
    [
        ({"steps": [25]}, "between 1 and 24"), ({"gap": 2, "steps": [2]}, "between 3 and 26"),
        ({"months": [13]}, "1 to 12"),
        ({"kind": "at"}, "at least one time"), ({"kind": "single", "cutoffs": [5, 9]}, "one cutoff"),
        ({"kind": "single", "share": 1.0}, "less than 1"), ({"learn": 0}, "greater than"),
    ],
)  # fmt: skip
def test_what_cannot_be_is_said(given: dict, said: str) -> None:
    with pytest.raises(pt.SettingsError, match=said):
        Folds.parse(given)
    with pytest.raises(pt.SettingsError, match="neither a time nor a position"):
        Folds.at([1.5])


@pytest.mark.parametrize("design", [
    Folds.expanding(6, 10, refit=4), Folds.sliding(6, 10, length=60), Folds.at([100, 120, 150, 170], 10),
    Folds.calendar("week", 5, hidden=True, horizon=2, count=6),
])  # fmt: skip
def test_sealed_folds_are_the_last_and_change_no_other(design: Folds) -> None:
    panel = daily(200)
    whole = design.resolve(panel)
    shut = design.model_copy(update={"sealed": 2})
    assert shut.resolve(panel) == whole[:-2] and shut.resolve_sealed(panel) == whole[-2:]
    assert design.resolve_sealed(panel) == []
    with pytest.raises(pt.ProteronError, match="at least one stays open"):
        design.model_copy(update={"sealed": len(whole)}).resolve(panel)


def test_a_broken_seal_judges_as_if_there_had_been_none() -> None:
    """The sealed folds of one contender have the numbers of an experiment without seals, and nobody else has any."""
    entered = {name: pt.forecaster(kind) for name, kind in (("a", "last_value"), ("b", "mean"), ("c", "drift"))}
    shut = pt.walk_forward(daily(200), entered, Folds.expanding(5, 8, sealed=2), baseline="a", seed=3)
    whole = pt.walk_forward(daily(200), entered, Folds.expanding(5, 8), baseline="a", seed=3)
    assert len(shut.folds) == 3 and {each.cell.fold for each in shut.results} == {0, 1, 2}
    seen = shut.break_seal("c")
    assert seen.names == ("a", "c") and len(seen.folds) == 2 and seen.sealed == ()
    for name in seen.names:
        assert np.array_equal(seen.losses("mae").of(name), whole.losses("mae").of(name)[3:])  # type: ignore[union-attr]
    gap = optimism(shut.board, seen.board, "c")
    assert gap is not None and gap == shut.board.row("c").skill - seen.board.row("c").skill
    for report, name in ((seen, "c"), (shut, "nobody")):
        with pytest.raises(pt.ProteronError):
            report.break_seal(name)
