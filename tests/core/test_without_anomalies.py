"""Learning without what was flagged as of the cutoff, and flags as a column of a table."""

import numpy as np
import pytest

import proteron as pt
from proteron.core.detection.as_of import Watch
from proteron.core.leak_check import corrupt_future
from proteron.core.panel import Panel
from proteron.core.windows.flagged import told_by


def spoiled(rng: np.random.Generator, points: int = 900) -> tuple[Panel, np.ndarray]:
    """An hourly series with a burst, a spike and a gap, and the one without them."""
    clean = 50 + 9 * np.sin(np.arange(points) * np.pi / 12) + rng.normal(size=points)
    values = clean.copy()
    values[300:312] += 20
    values[500] -= 30
    values[640:643] = np.nan
    return pt.Panel.from_arrays({"a": values}, "2024-01-01", "1 hour"), clean


def test_flagged_points_are_taken_out_as_of_the_cutoff_and_put_back(rng: np.random.Generator) -> None:
    panel, clean = spoiled(rng)
    fitted = pt.Chain([pt.flatten.WithoutAnomalies()]).fit(panel, 800)
    flat = fitted.apply(panel).values
    changed = np.flatnonzero(~np.isclose(flat, panel.values, equal_nan=True))
    assert {500, *range(301, 311)} <= set(changed.tolist()) <= {500, *range(299, 313)}
    assert np.abs(flat - clean)[changed].max() < 4.5 and np.isnan(flat[640:643]).all()
    assert np.allclose(fitted.undo(fitted.apply(panel)).values, panel.values, equal_nan=True)
    early = pt.Chain([pt.flatten.WithoutAnomalies()]).fit(panel, 400)
    assert early.apply(panel).values[500] == panel.values[500], "what came after the cutoff is as it came"
    far = pt.Chain([pt.flatten.WithoutAnomalies(threshold=1e5)]).fit(panel, 800)
    assert np.array_equal(far.apply(panel).values, panel.values, equal_nan=True)
    assert "nothing is flagged so far" in str(far.document())


def test_a_contender_learns_better_without_them(rng: np.random.Generator) -> None:
    panel, _ = spoiled(rng)
    values = panel.values.copy()
    values[rng.choice(np.arange(50, 780), 30, replace=False)] += 60
    panel = panel.with_values(values)
    season = pt.flatten.PeriodMeans(period=24)
    entries = {
        "with": pt.forecaster("mean", chain=pt.Chain([season])),
        "without": pt.forecaster("mean", chain=pt.Chain([pt.flatten.WithoutAnomalies(), season])),
    }
    board = pt.walk_forward(panel, entries, pt.Folds.expanding(count=3, horizon=24), ["mae"], "with").board
    assert board.row("without").skill > 0.3


@pytest.mark.parametrize("delay", [0, 2])
def test_a_row_knows_what_was_told_by_its_origin(rng: np.random.Generator, delay: int) -> None:
    """Against watching up to every origin anew."""
    panel, _ = spoiled(rng)
    plan = pt.WindowPlan(more=(pt.windows.Flagged(reach=24, delay=delay),), horizon=(1,), missing="keep")
    rows = plan.cut(panel)
    column, origins = rows.features[:, rows.names.index("flagged 24")], rows.positions
    assert column.max() >= 2 and (column == 0).mean() > 0.5
    for at in (305, 312, 330, 336, 501, 503, 641, 700):
        place = int(np.flatnonzero(origins == at)[0])
        watch = Watch(0, (24, 168), delay)
        watch.add(panel.values[: at + 1].copy())
        told = [p for p in range(len(watch.kinds)) if watch.kinds[p]]
        when = [p if watch.kinds[p] == 4 else p + delay for p in told]
        assert column[place] == sum(at - 24 < each <= at for each in when), at
    for corruption in ("noise", "missing"):
        after = told_by(corrupt_future(panel, 600, corruption), delay)
        assert after[:600].tobytes() == told_by(panel, delay)[:600].tobytes()
