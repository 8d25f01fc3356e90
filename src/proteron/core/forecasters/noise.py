"""Random numbers for simulated paths, handed in, so that several series can share what is alike in their errors."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from proteron.core.panel import Floats


@dataclass(frozen=True)
class Noise:
    """`errors` (count, horizon): standard normal one-step errors that paths are made of; `rng` for anything else."""

    errors: Floats
    rng: np.random.Generator

    @classmethod
    def draw(cls, seed: Any, count: int, horizon: int, shared: Floats | None = None) -> "Noise":
        """`count` paths of `horizon` steps; the last columns are `shared` (count, ≤ horizon) where they are given."""
        rng = np.random.default_rng(seed)
        if shared is None:
            return cls(rng.normal(size=(count, horizon)), rng)
        alone = rng.normal(size=(count, horizon - shared.shape[1]))
        return cls(np.concatenate([alone, shared], axis=1), rng)
