"""Facts about columns against closed forms: correlation, mutual information, which columns say the same."""

import numpy as np
import pytest

from proteron.core.panel import Panel
from proteron.core.windows import CalendarCycle, Rolling, WindowPlan
from proteron.core.windows.columns import column_facts, correlations, mutual_information


@pytest.mark.parametrize("rho", [0.0, 0.5, -0.9])
def test_mutual_information_of_normal_pairs_is_the_closed_form(rho: float, rng: np.random.Generator) -> None:
    x = rng.normal(size=4000)
    y = rho * x + np.sqrt(1 - rho**2) * rng.normal(size=4000)
    assert mutual_information(x, y) == pytest.approx(-0.5 * np.log(1 - rho**2), abs=0.05)
    assert mutual_information(1e6 + 3 * x, -0.01 * y) == pytest.approx(mutual_information(x, y), abs=0.03)


def test_mutual_information_sees_what_correlation_does_not(rng: np.random.Generator) -> None:
    x = rng.normal(size=3000)
    assert abs(correlations(np.stack([x, x**2], axis=1))[0, 1]) < 0.1
    assert mutual_information(x, x**2 + 0.1 * rng.normal(size=3000)) > 0.8
    half = rng.integers(0, 2, size=3000).astype(float)  # one bit that decides the level
    assert mutual_information(half, 10 * half + rng.normal(size=3000)) == pytest.approx(np.log(2), abs=0.05)
    assert mutual_information(np.ones(100), rng.normal(size=100)) == 0
    assert np.isnan(mutual_information(np.full(100, np.nan), rng.normal(size=100)))


def test_facts_count_cells_and_name_the_twin(rng: np.random.Generator) -> None:
    x = np.cumsum(rng.normal(size=500))
    x[100:110] = np.nan
    panel = Panel.from_arrays({"a": x}, "2024-01-01", "1h")
    plan = WindowPlan(
        lags=[1, 2], rolling=[Rolling("sum", 4), Rolling("mean", 4)], missing="keep",
        more=[CalendarCycle(field="hour_of_day", form="number")],
    )  # fmt: skip
    table = plan.cut(panel)
    facts = {each.name: each for each in column_facts(table)}
    assert list(facts) == [*table.names, "+1"]
    for column, name in enumerate(table.names):
        values = table.features[:, column]
        assert facts[name].missing == pytest.approx(np.isnan(values).mean())
        assert sum(facts[name].counts) == np.isfinite(values).sum()
        both = np.isfinite(values) & np.isfinite(table.targets[:, 0])
        expected = np.corrcoef(values[both], table.targets[both, 0])[0, 1]
        assert facts[name].correlation == pytest.approx(expected, abs=1e-9)
    assert facts["mean 4"].nearest == "sum 4" and facts["mean 4"].likeness == pytest.approx(1)
    assert column_facts(WindowPlan(lags=[1], horizon=[700]).cut(panel)) == []
