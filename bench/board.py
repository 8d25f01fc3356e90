"""How long a board of many takes to be told, as ratios of one pass over its losses.

python bench/board.py [SERIES [CONTENDERS [FOLDS [HORIZON]]]]
"""

import sys
import time
from collections.abc import Callable

import numpy as np

from proteron.core.judge import EntrantFacts, Fold, Losses, duel, make_board
from proteron.core.panel import Panel


def timed(what: Callable[[], object], repeats: int = 5) -> float:
    """The middle of some runs, seconds."""
    taken = []
    for _ in range(repeats):
        begun = time.perf_counter()
        what()
        taken.append(time.perf_counter() - begun)
    return float(np.median(taken))


def main(series: int = 300, contenders: int = 20, folds: int = 8, horizon: int = 24) -> None:
    """Print the ratios."""
    rng = np.random.default_rng(0)
    names = tuple(f"c{place}" for place in range(contenders))
    places = [Fold(0, 400 + horizon * f, 0, horizon, horizon, 400 + horizon * (f + 1)) for f in range(folds)]
    values = rng.gamma(2.0, size=(contenders, folds, series, 1, horizon))
    told = {name: Losses(name, names, values * scale) for name, scale in (("mae", 1.0), ("rmse", 1.5), ("mase", 0.5))}
    facts = [EntrantFacts(name, "x") for name in names]
    panel = Panel.from_arrays(
        {f"s{place}": np.zeros(400 + horizon * folds) for place in range(series)}, "2020-01-01", "1d"
    )
    once = timed(lambda: np.where(np.isfinite(values), values, 0.0).sum())
    board = timed(lambda: make_board(told, facts, ["mase", "mae", "rmse"], "c0", folds=places))
    two = timed(lambda: duel(told["mase"], "c1", "c0", panel, places))
    print(f"{contenders} contenders, {folds} folds, {series} series, {horizon} steps; one pass {1000 * once:.1f} ms")
    print(f"board of three measures: {board / once:.1f} passes ({1000 * board:.0f} ms here)")
    print(f"duel: {two / once:.1f} passes ({1000 * two:.0f} ms here)")


if __name__ == "__main__":
    main(*map(int, sys.argv[1:]))
