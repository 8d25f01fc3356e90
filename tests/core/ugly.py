"""Series that are no fun: for whatever must neither raise nor tell nonsense."""

import numpy as np

from proteron.core.panel import Floats


def ugly_series(seed: int = 0) -> dict[str, Floats]:
    """Two hundred of them, by name."""
    rng = np.random.default_rng(seed)
    found: dict[str, Floats] = {}
    for length in (1, 2, 3, 5, 8, 13, 24, 30, 50, 90, 200, 700):
        noise = rng.normal(size=length)
        gaps = noise.copy()
        gaps[rng.random(length) < 0.5] = np.nan
        lonely = np.zeros(length)
        lonely[length // 2] = 1.0
        shapes = {
            "constant": np.full(length, 7.0),
            "zero": np.zeros(length),
            "missing": np.full(length, np.nan),
            "one known": np.where(np.arange(length) == length // 2, 3.0, np.nan),
            "half missing": gaps,
            "lonely one": lonely,
            "huge": noise * 1e150,
            "tiny": noise * 1e-200,
            "huge level": 1e15 + noise,
            "steps": np.floor(np.arange(length) / 10) * 100.0,
            "alternating": np.where(np.arange(length) % 2, 1.0, -1.0),
            "counts": rng.poisson(0.3, length).astype(float),
            "line": np.arange(length, dtype=float),
            "exponential": np.exp(np.linspace(0, 60, length)),
            "heavy": rng.standard_cauchy(length),
            "rounded": np.round(noise),
            "one level, then another": np.where(np.arange(length) < length // 2, 0.0, 1e9),
        }
        found |= {f"{name}, {length} points": each for name, each in shapes.items()}
    return found
