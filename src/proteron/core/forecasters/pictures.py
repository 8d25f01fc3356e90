"""What was learned, drawn: curves with their labels."""

from dataclasses import dataclass
from typing import Literal

from proteron.core.panel import Floats


@dataclass(frozen=True)
class Curve:
    """One line or cloud of a picture, x and y (n,) each."""

    label: str
    x: Floats
    y: Floats
    kind: Literal["line", "points"] = "line"


@dataclass(frozen=True)
class Picture:
    """Curves over a common x, with marks at places of it; or values by `names`, one of every curve each."""

    title: str
    x_label: str
    curves: tuple[Curve, ...]
    marks: tuple[tuple[float, str], ...] = ()
    names: tuple[str, ...] = ()
