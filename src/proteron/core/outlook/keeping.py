"""An outlook as arrays that are kept: what is read of it again and again, without what it learned and its paths."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from proteron.core.outlook.outlook import Outlook


def arrays_of(view: Outlook) -> dict[str, NDArray[Any]]:
    """Mean, ranges by level, how they held, of how many errors, notes, and how many paths were drawn."""
    held, of = view.held
    arrays = {
        "mean": view.mean, "origin": np.array(view.origin), "held": held, "held of": of,
        "errors": view.errors.counts(), "how": np.array(view.how), "notes": np.array(view.notes, dtype=str),
        "drawn": np.array(len(view.paths)), "seed": np.array(view.seed),
    }  # fmt: skip
    arrays |= {f"lower {level}": bound for level, bound in view.lower.items()}
    return arrays | {f"upper {level}": bound for level, bound in view.upper.items()}
