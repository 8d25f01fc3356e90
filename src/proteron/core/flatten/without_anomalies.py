"""What was not to be expected, found by looking back from the cutoff, taken out before anything is learned."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.detection.joint import look_back
from proteron.core.detection.naming import events_of, is_lasting
from proteron.core.detection.scores import JOINT, score_of
from proteron.core.flatten.stage import AdditiveStage, Calendar, Group, StageState, require
from proteron.core.panel import Floats
from proteron.core.timeline import Ints


class WithoutAnomalies(AdditiveStage):
    """Put what was expected in the place of points that are flagged as of the cutoff, so that later stages and the
    contender learn without them; a level that stays moved is left. What comes after the cutoff passes as it is."""

    title: ClassVar[str] = "without anomalies"
    group: ClassVar[Group] = "transform"
    kind: Literal["without_anomalies"] = "without_anomalies"
    shareable: ClassVar[bool] = False
    threshold: float = Field(
        round(JOINT.usual, 3), ge=JOINT.least, title="Threshold", description="Evidence above it is taken out, spreads."
    )

    def fit(self, values: Floats, positions: Ints, calendar: Calendar) -> StageState:
        """Learn from known values (n_known,) at grid `positions`; raises `TooShortError` where nothing is known."""
        require(values, self.needs, self.title)
        first = int(positions[0])
        dense = np.full(int(positions[-1]) + 1 - first, np.nan)
        dense[positions - first] = values
        seasons = calendar.axis.step.whole_seasons
        looked = look_back(dense.copy(), first, seasons)
        usual, off = looked.expected_values, np.zeros(len(dense))
        for each in events_of(looked, dense, seasons):
            part = slice(each.start, each.stop)
            if score_of(each.net) > self.threshold and not is_lasting(each.kind, each.start, each.stop):
                expected = usual[part] if each.without is None else each.without
                off[part] = np.nan_to_num(dense[part] - expected)
        at = np.flatnonzero(off)
        notes = () if len(at) else ("nothing is flagged so far: values pass as they are",)
        return StageState({"at": (first + at).astype(np.float64), "off": off[at]}, notes)

    def parts(self, state: StageState, positions: Ints, calendar: Calendar) -> dict[str, Floats]:
        """What is taken out at `positions`, (n_positions,) by name."""
        at, off = state.array("at").astype(np.int64), state.array("off")
        if not len(at):
            return {"anomalies": np.zeros(np.shape(positions))}
        place = np.minimum(np.searchsorted(at, positions), len(at) - 1)
        return {"anomalies": np.where(at[place] == positions, off[place], 0.0)}

    def facts(self, state: StageState) -> dict[str, float]:
        """What it learned as single numbers, by name."""
        return {"points": float(len(state.array("at")))}
