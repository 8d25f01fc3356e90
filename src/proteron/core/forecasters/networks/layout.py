"""What a network is built for."""

from dataclasses import dataclass

import numpy as np

from proteron.core.panel import Floats


@dataclass(frozen=True)
class Layout:
    """What of a table's features a network reads: `window` columns, oldest first, as steps, the others beside.

    `direct` (n_features, n_steps) and `bias` (n_steps,) are what a straight line to the forecasts begins with; `says`
    numbers are told of every step, the forecast being number `middle` of them. Of `categories`, inputs with how many
    numbers they can be, `embedding` numbers are learned of each.
    """

    window: int
    beside: int
    steps: int
    direct: Floats
    bias: Floats
    says: int = 1
    middle: int = 0
    categories: tuple[tuple[int, int], ...] = ()
    embedding: int = 0

    @property
    def width(self) -> int:
        """All features together."""
        return self.window + self.beside

    @property
    def outputs(self) -> int:
        """Numbers that are told, those of a step side by side."""
        return self.steps * self.says

    @property
    def line(self) -> tuple[Floats, Floats]:
        """`direct` and `bias` to the forecasts among all that is told: (n_features, n_outputs) and (n_outputs,)."""
        out, bias = np.zeros((len(self.direct), self.steps, self.says)), np.zeros((self.steps, self.says))
        out[:, :, self.middle], bias[:, self.middle] = self.direct, self.bias
        return out.reshape(len(self.direct), -1), bias.ravel()
