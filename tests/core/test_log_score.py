"""The log score: minus the log of the density at what happened, where ranges tell one."""

import numpy as np
import pytest
from scipy import stats

import proteron as pt
from proteron.core.errors import SettingsError
from proteron.core.judge.board import metric_of_skill
from proteron.core.judge.density import log_density

FOLDS = pt.Folds.expanding(count=4, horizon=6, span=24, every=6)


def judged(values, **chains: pt.Chain) -> pt.Report:
    panel = pt.Panel.from_arrays({"a": values, "b": 3 * values[::-1]}, start="2024-01-01", step="1h")
    entered = {name: pt.forecaster("mean", chain=chain) for name, chain in chains.items()}
    entered |= {"split": pt.forecaster("mean", ranges="split"), "ridge": pt.forecaster("ridge", plan=None)}
    return pt.walk_forward(panel, entered, FOLDS, metrics=("mae", "log_score"), levels=(0.5, 0.8, 0.95))


@pytest.mark.usefixtures("by_theory")
def test_it_is_that_of_the_normal_distribution_and_of_the_log_normal_behind_a_logarithm() -> None:
    values = np.exp(3 + 0.4 * np.random.default_rng(2).normal(size=900))
    report = judged(values, plain=pt.Chain(), log=pt.Chain([pt.flatten.Log()]))
    for result in (each for each in report.results if each.cell.name in ("plain", "log")):
        for series in range(2):
            truth = report.panel.series(series)[result.origins[:, None] + np.arange(6)]
            low, high = result.ranges[2, :, series]
            if result.cell.name == "log":
                low, high = np.log(low), np.log(high)
            spread = (high - low) / 2 / stats.norm.ppf(0.975)
            middle = (low + high) / 2
            exact = stats.norm(middle, spread).logpdf(truth)
            if result.cell.name == "log":
                exact = stats.lognorm(spread, scale=np.exp(middle)).logpdf(truth)
            assert np.allclose(result.losses["log_score"][series], -exact, rtol=1e-5)
    told = {row.contender: row["log_score"] for row in report.board}
    assert told["log"] < told["plain"]  # the values are log-normal
    with pytest.raises(SettingsError, match="Skill cannot be told"):
        metric_of_skill("log_score")
    with pytest.raises(SettingsError, match="Skill needs a metric"):
        pt.walk_forward(report.panel, {"plain": pt.forecaster("mean")}, FOLDS, metrics=("log_score",))


def test_there_is_none_without_one_normal_distribution() -> None:
    values = 50 + np.random.default_rng(3).normal(size=900)
    report = judged(values, plain=pt.Chain())
    told = {row.contender: row["log_score"] for row in report.board}
    assert told["split"] is None and told["ridge"] is None
    assert told["plain"] == pytest.approx(0.5 * np.log(2 * np.pi * np.e * (1 + 9) / 2), abs=0.3)  # of spreads 1 and 3
    assert "log score" not in repr(report.board).rpartition("\n")[2]  # a dash says it
    chain = pt.Chain().fit(report.panel, 800)
    ends = np.stack([np.stack([np.full((2, 1, 3), -reach), np.full((2, 1, 3), reach)]) for reach in (0.674, 1.96)])
    truth = np.zeros((2, 1, 3))
    assert np.allclose(log_density(chain, ends, (0.5, 0.95), truth), stats.norm.logpdf(0), atol=1e-3)
    uneven, aside, narrow, beyond = (ends.copy() for _ in range(4))
    uneven[1] *= 1.05
    aside[1] += 0.05
    narrow[:] = 0.0
    for wrong in (uneven, aside, narrow):
        assert np.isnan(log_density(chain, wrong, (0.5, 0.95), truth)).all()
    assert np.isnan(log_density(chain, beyond[:1], (0.5,), truth)).all()
    truth[0, 0, 1] = np.nan
    assert np.isnan(log_density(chain, ends, (0.5, 0.95), truth)).sum() == 1
