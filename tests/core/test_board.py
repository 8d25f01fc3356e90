"""What the board says, from losses made by hand: common points, skill, intervals, best-in, coverage, reasons."""

from dataclasses import replace

import numpy as np
import pytest

import proteron as pt
from proteron.core.judge import FLAT_SQUARE, METRICS, EntrantFacts, Failure, Fold, Folds, Losses, make_board
from proteron.core.judge.board import Board
from proteron.core.judge.cells import expand
from proteron.core.judge.folds import learned_by
from proteron.core.judge.losses import mean_over, reported_of
from proteron.core.panel import Panel

NAN = np.nan


def losses(metric: str, **by_fold: list[list[float]]) -> Losses:
    """One series, one origin: per entrant and fold the loss of every step."""
    values = np.array(list(by_fold.values()), dtype=float)[:, :, None, None, :]
    return Losses(metric, tuple(by_fold), values)


def board(found: Losses, baseline: str = "base", more: dict[str, Losses] | None = None, **facts: EntrantFacts) -> Board:
    entrants = [facts.get(name, EntrantFacts(name, "x", cells=1)) for name in found.names]
    return make_board({found.metric: found, **(more or {})}, entrants, [found.metric], baseline)


def test_skill_compares_only_points_that_both_have() -> None:
    """An entrant that declined where it was hard is not better for it: its error counts its own points alone."""
    found = losses("mae", base=[[1.0, 9.0], [1.0, 9.0]], picky=[[0.5, NAN], [0.5, NAN]], fair=[[0.5, 4.5], [0.5, 4.5]])
    rows = board(found)
    assert rows.row("base")["mae"] == 5.0
    assert rows.row("picky")["mae"] == 0.5
    assert rows.row("picky").skill == rows.row("fair").skill == 0.5
    assert rows.row("picky").skill_by_step == (0.5, None)
    assert rows.row("base").skill == 0.0


def test_squares_are_pooled_before_their_root_is_taken() -> None:
    found = losses("rmse", base=[[4.0, 16.0]], other=[[1.0, 4.0]])
    rows = board(found)
    assert rows.row("base")["rmse"] == pytest.approx(np.sqrt(10))
    assert rows.row("other").skill == pytest.approx(0.5)
    assert float(reported_of("mae", mean_over([3.0], [2], (0,), 1, None))) == 1.5
    assert np.isnan(reported_of("mae", mean_over([0.0], [0], (0,), 1, None)))


def test_best_in_counts_folds_with_the_highest_skill_and_ties_go_to_the_first() -> None:
    found = losses(
        "mae", base=[[2.0], [2.0], [2.0], [2.0], [NAN]], one=[[1.0], [3.0], [2.0], [NAN], [NAN]],
        two=[[1.0], [1.0], [2.0], [NAN], [NAN]],
    )  # fmt: skip
    rows = board(found)
    assert [row.best_in for row in rows] == [2, 1, 1]  # fold 3 is a tie, fold 4 has the baseline alone, fold 5 nobody
    swapped = board(losses("mae", one=found.values[1, :, 0, 0].tolist(), base=found.values[0, :, 0, 0].tolist()))
    assert [row.best_in for row in swapped] == [2, 2]


def test_a_baseline_without_error_cannot_be_beaten() -> None:
    rows = board(losses("mae", base=[[0.0], [2.0]], other=[[1.0], [1.0]]))
    assert rows.row("other").skill_by_fold == (None, 0.5)
    assert rows.row("other").skill == pytest.approx(0.0)
    assert [row.best_in for row in rows] == [1, 1]


def test_the_interval_needs_three_folds_with_common_points_and_goes_by_what_folds_say() -> None:
    one = board(losses("mae", base=[[2.0], [2.0], [NAN]], other=[[1.0], [1.2], [1.0]]))
    assert (one.row("other").skill_low, one.row("other").skill_high) == (None, None)
    even = board(losses("mae", base=[[2.0]] * 5, other=[[1.0]] * 5)).row("other")
    assert (even.skill_low, even.skill, even.skill_high) == (0.5, 0.5, 0.5)
    spread = [[1.0], [1.2], [0.8], [1.5], [0.5], [1.1], [0.9], [1.0]]
    row = board(losses("mae", base=[[2.0]] * 8, other=spread)).row("other")
    log_error = np.std(np.ravel(spread), ddof=1) / np.mean(spread) / np.sqrt(8)  # of the logarithm of the ratio
    assert row.skill_low == pytest.approx(1 - 0.5 * np.exp(2.365 * log_error), abs=0.03)  # Student's 97.5 % of 7
    assert row.skill_high == pytest.approx(1 - 0.5 * np.exp(-2.365 * log_error), abs=0.03)
    again = board(losses("mae", base=[[2.0]] * 8, other=spread)).row("other")
    assert (again.skill_low, again.skill_high) == (row.skill_low, row.skill_high)  # seeded
    unfinished = board(losses("mae", base=[[2.0]] * 8 + [[NAN]] * 9, other=[*spread, *[[1.0]] * 9])).row("other")
    assert (unfinished.skill_low, unfinished.skill_high) == (row.skill_low, row.skill_high)


def test_coverage_and_flat_errors_are_of_their_own_losses() -> None:
    found = losses("mae", base=[[1.0, 1.0]], other=[[1.0, 1.0]])
    more = {
        "coverage_95": losses("coverage_95", base=[[1.0, 1.0]], other=[[1.0, 0.0]]),
        FLAT_SQUARE: losses(FLAT_SQUARE, base=[[NAN, NAN]], other=[[9.0, 16.0]]),
    }
    rows = board(found, more=more)
    assert [row.coverage for row in rows] == [1.0, 0.5]
    assert rows.row("base").flat_rmse is None
    assert rows.row("other").flat_rmse == pytest.approx(np.sqrt(12.5))


def test_what_stands_behind_a_number_is_counted_and_what_is_left_out_is_said() -> None:
    """MASE without a scale in one fold: fewer folds, the same for skill, and a sentence on the board."""
    whole = losses("mae", base=[[1.0, 2.0], [3.0, 4.0]], other=[[1.0, 1.0], [1.0, np.nan]])
    scaled = losses("mase", base=[[1.0, 2.0], [np.nan, np.nan]], other=[[0.5, 1.0], [np.nan, np.nan]])
    facts = [EntrantFacts("base", "x", cpu_seconds=0.5), EntrantFacts("other", "x", seconds=2.0, cpu_seconds=1.5)]
    found = make_board({"mase": scaled, "mae": whole}, facts, ["mase", "mae"], "base")
    other = found.row("other")
    assert (other.behind["mase"].points, other.behind["mase"].folds) == (2, 1)
    assert (other.behind["mae"].points, other.behind["mae"].folds, other.behind["mae"].series) == (3, 2, 1)
    assert other.behind["skill"].points == 2 and other["behind"]["skill"]["folds"] == 1
    assert (other.seconds, other.cpu_seconds) == (2.0, 1.5)
    (note,) = found.notes
    assert note.startswith("MASE leaves out 1 of 2 folds: ") and "nothing to scale by" in note
    assert str(found).endswith(note) and note in found._repr_html_()
    by_mae = make_board({"mase": scaled, "mae": whole}, facts, ["mae"], "base").row("other")
    assert by_mae.behind["skill"].points == 3


def test_single_points_and_whole_series_that_are_left_out_are_said() -> None:
    whole = np.ones((1, 2, 2, 1, 2))
    one, row = whole.copy(), whole.copy()
    one[0, 0, 0, 0, 0] = np.nan
    row[:, :, 1] = np.nan
    facts = [EntrantFacts("base", "x")]
    made = {
        "mae": Losses("mae", ("base",), whole), "smape": Losses("smape", ("base",), one),
        "rmsse": Losses("rmsse", ("base",), row),
    }  # fmt: skip
    notes = make_board(made, facts, ["mae", "smape", "rmsse"], "base").notes
    assert notes[0] == "sMAPE leaves out 12 % of all points: truth and forecast are zero there."
    assert notes[1].startswith("RMSSE leaves out 1 of 2 series: ")


def test_reasons_are_gathered_by_their_words_the_most_frequent_first() -> None:
    failures = (
        Failure("other", 0, "rare"), Failure("other", 2, "often", "b"), Failure("other", 1, "often", "a"),
        Failure("other", 1, "often", "b"),
    )  # fmt: skip
    facts = EntrantFacts("other", "x", cells=1, failed=1, seconds=2.5, failures=failures)
    row = board(losses("mae", base=[[1.0]], other=[[NAN]]), other=facts).row("other")
    assert [(r.text, r.folds, r.series) for r in row.reasons] == [("often", (1, 2), ("b", "a")), ("rare", (0,), ())]
    assert (row.skill, row.failed, row.seconds) == (None, 1, 2.5)
    assert failures[0].place == "other, fold 1" and failures[1].place == "other, fold 3, b"


def test_rows_read_as_mappings_and_the_board_as_a_table() -> None:
    rows = board(losses("mae", base=[[1.0]], other=[[0.5]]))
    row = rows[1]
    assert row["mae"] == 0.5 and row["contender"] == "other" and dict(row)["skill"] == 0.5
    assert set(row) == set(dict(row)) and len(row) == len(dict(row))
    with pytest.raises(KeyError):
        row["vibes"]
    table = rows.to_arrow()
    assert table.column("contender").to_pylist() == ["base", "other"]
    assert "skill_by_fold" not in table.column_names
    assert "other" in repr(rows) and "+0.500" in repr(rows) and "<td>other</td>" in rows._repr_html_()
    with pytest.raises(KeyError):
        rows.row("nobody")
    assert rows == board(losses("mae", base=[[1.0]], other=[[0.5]]))
    assert rows != board(losses("mae", base=[[1.0]], other=[[0.6]]))


def test_skill_is_told_by_a_metric_by_which_smaller_is_better() -> None:
    found = {name: losses(name, base=[[1.0]], other=[[0.5]]) for name in ("coverage_80", "rmse", "mae")}
    facts = [EntrantFacts("base", "x"), EntrantFacts("other", "x")]
    told = make_board(found, facts, ["coverage_80", "rmse"], "base")
    assert told.skill_metric == "rmse"
    assert told.row("other").skill == pytest.approx(1 - np.sqrt(0.5))
    by_mae = make_board(found, facts, ["coverage_80", "rmse"], "base", "mae")
    assert by_mae.row("other").skill == 0.5
    assert set(by_mae[0].errors) == {"coverage_80", "rmse", "mae"}
    with pytest.raises(pt.SettingsError, match="smaller is better"):
        pt.walk_forward(Panel.from_arrays({"a": np.arange(40.0)}, "2024", "1 day"), {"m": pt.forecaster("mean")},
                        Folds.expanding(count=2, horizon=2), metrics=["coverage_80"])  # fmt: skip


# losses in several views


@pytest.fixture(scope="module")
def report() -> pt.core.judge.Report:
    rng = np.random.default_rng(2)
    hours = np.arange(24 * 30)
    day = np.where((hours % 24) < 6, 8.0, 1.0)  # the night is eight times as hard
    panel = Panel.from_arrays({"a": rng.normal(size=720) * day, "b": rng.normal(size=720) * 3}, "2024-01-01", "1h")
    entries = {"mean": pt.forecaster("mean"), "last": pt.forecaster("last_value")}
    folds = Folds.expanding(count=3, horizon=12, span=48, every=6)
    return pt.walk_forward(panel, entries, folds, ["mae", "rmse"], "mean", seed=1)


@pytest.mark.parametrize("view", ["step", "fold", "series", "slot"])
def test_losses_by_any_view_are_plain_means_of_points(report: pt.core.judge.Report, view: str) -> None:
    found = report.losses("mae", by=view)  # type: ignore[arg-type]
    assert found.names == ("mean", "last")
    gathered: dict[tuple[str, str], list[float]] = {}
    for result in report.results:
        place = result.cell.place
        for row, series in enumerate(result.cell.series):
            for number, origin in enumerate(result.origins):
                for step in range(place.horizon):
                    position = int(origin) + step
                    truth = report.panel.series(series)[position] if position < place.score_stop else NAN
                    hour = int(
                        report.panel.axis.local(np.array([position]))[0].astype("datetime64[h]").astype(int) % 24
                    )
                    label = {
                        "step": str(step + 1), "fold": str(result.cell.fold + 1), "series": report.panel.keys[series],
                        "slot": f"hour_of_day {hour}",
                    }[view]  # fmt: skip
                    gathered.setdefault((result.cell.name, label), []).append(
                        abs(result.mean[row, number, step] - truth)
                    )
    assert set(found.labels) == {label for _, label in gathered}
    for name, label in gathered:
        value = found.values[found.names.index(name), found.labels.index(label)]
        assert value == pytest.approx(np.nanmean(gathered[name, label])), (name, label)


def test_what_was_not_gathered_is_refused(report: pt.core.judge.Report) -> None:
    with pytest.raises(pt.SettingsError, match="no metric “vibes”"):
        report.losses("vibes")
    with pytest.raises(pt.SettingsError, match="not by “moon”"):
        report.losses("mae", by="moon")  # type: ignore[arg-type]
    assert set(METRICS) <= set(report._losses)


# folds and the identity of cells


def test_which_fold_had_learned_by_a_moment() -> None:
    folds = [Fold(0, cutoff, 0, 5, 5, cutoff + 5) for cutoff in (10, 30, 20)]
    assert [learned_by(folds, origin) for origin in (9, 10, 19, 20, 29, 30, 99)] == [None, 0, 0, 2, 2, 1, 1]
    assert learned_by([], 5) is None


def test_folds_of_several_spans_learn_and_score_only_there(rng: np.random.Generator) -> None:
    panel = Panel.from_arrays({"a": np.where(np.arange(60) < 20, 100.0, rng.normal(size=60))}, "2024-01-01", "1 day")
    plain = Fold(0, 40, 0, 5, 5, 60)
    spans = replace(plain, learned=((20, 40),), scored=((40, 45), (50, 55)))
    assert spans.origins.tolist() == [40, 50] and plain.origins.tolist() == [40, 45, 50, 55]
    assert spans.is_scored(np.arange(38, 60)).sum() == 10
    assert Fold.from_document(spans.document()) == spans and "learned" not in plain.document()
    (cell,) = expand(panel, {"mean": pt.forecaster("mean")}, [spans], 0)
    result = pt.core.judge.compute_cell(panel, cell)
    assert result.mean[0, 0, 0] == pytest.approx(panel.values[20:40].mean())  # the hundreds were not learned from
    assert np.isfinite(result.losses["mae"]).all()
    (whole,) = expand(panel, {"mean": pt.forecaster("mean")}, [replace(plain, scored=((40, 43),))], 0)
    scored = np.isfinite(pt.core.judge.compute_cell(panel, whole).losses["mae"])
    assert scored[0].tolist() == [[True] * 3 + [False] * 2]


def test_a_cell_is_another_when_anything_it_depends_on_is() -> None:
    panel = Panel.from_arrays({"a": np.arange(60.0), "b": np.arange(60.0)}, "2024-01-01", "1 day")
    mean, fold = {"m": pt.forecaster("mean")}, Fold(0, 40, 0, 5, 5, 50)

    def key(contenders: dict = mean, place: Fold = fold, seed: int = 1, **more: object) -> tuple[str, str]:
        cell = expand(panel, contenders, [place], seed, **more)[0]  # type: ignore[arg-type]
        return cell.fit_key, cell.key

    first = key()
    assert key() == first and len(set(first)) == 2
    assert key({"renamed": mean["m"]}) == first  # a name is no part of it
    for change in (
        key(seed=2), key(dataset="other"), key({"m": pt.forecaster("last_value")}), key(place=replace(fold, cutoff=41)),
        key(place=replace(fold, learn_start=1)), key(place=replace(fold, horizon=6)), key(place=replace(fold, gap=1)),
        key({"m": pt.forecaster("mean", chain=pt.Chain([pt.flatten.ZScore()]))}),
    ):  # fmt: skip
        assert change[0] != first[0] and change[1] != first[1]
    for change in (key(place=replace(fold, every=1)), key(place=replace(fold, score_stop=55)), key(levels=(0.5,))):
        assert change[0] == first[0] and change[1] != first[1]  # the same is learned, something else is asked


def test_an_improved_method_never_serves_old_results(monkeypatch: pytest.MonkeyPatch) -> None:
    panel, fold = Panel.from_arrays({"a": np.arange(60.0)}, "2024-01-01", "1 day"), Fold(0, 40, 0, 5, 5, 50)
    for kind, chain in (("mean", pt.Chain([])), ("mean", pt.Chain([pt.flatten.ZScore()]))):
        contender = pt.forecaster(kind, chain=chain)
        before = expand(panel, {"m": contender}, [fold], 1)[0].key
        improved = type(contender.chain.stages[0]) if contender.chain.stages else type(contender.forecaster)
        with monkeypatch.context() as planted:
            planted.setattr(improved, "version", improved.version + 1)
            assert expand(panel, {"m": contender}, [fold], 1)[0].key != before


def test_cells_computed_together_have_the_bits_they_have_alone(hourly: Panel) -> None:
    entries = {"ridge": pt.forecaster("ridge", lags=[1, 2, 24]), "smoothing": pt.forecaster("smoothing", season=None)}
    cells = expand(hourly, entries, Folds.expanding(count=3, horizon=6, refit=2).resolve(hourly), 4)
    together = pt.core.judge.compute_cells(hourly, cells)
    for cell, result in zip(cells, together, strict=True):
        alone = pt.core.judge.compute_cell(hourly, cell)
        for name in ("mean", "ranges", "flat_truth", "spread"):
            assert getattr(alone, name).tobytes() == getattr(result, name).tobytes(), (cell.name, cell.fold, name)
    shared = [result.fit for result in together if result.cell.name == "ridge"]
    assert shared[0] is shared[1] and shared[2] is not shared[1]


def test_ranges_from_every_origin_use_nothing_right_of_it(hourly: Panel) -> None:
    chain = pt.Chain([pt.flatten.Log(), pt.flatten.PeriodMeans(period=24)])
    for kind in ("seasonal_last_value", "smoothing", "ridge"):
        entry = {"m": pt.forecaster(kind, chain=chain)}
        (cell,) = expand(hourly, entry, Folds.expanding(count=1, horizon=6, span=96, every=24).resolve(hourly), 1)
        result = pt.core.judge.compute_cell(hourly, cell)
        assert result.ranges.shape == (3, 2, 2, 4, 6)
        later = hourly.values.copy()
        later[int(result.origins[2]) : 1500] += 40  # of the first series, right of the third origin
        spoiled = pt.core.judge.compute_cell(hourly.with_values(later), cell)
        assert spoiled.ranges[:, :, 0, :3].tobytes() == result.ranges[:, :, 0, :3].tobytes()
        assert (spoiled.ranges[:, :, 0, 3] != result.ranges[:, :, 0, 3]).any()
        inside = (result.ranges[:, 0, 0] <= result.mean[0]) & (result.mean[0] <= result.ranges[:, 1, 0])
        assert inside.mean() > 0.95
