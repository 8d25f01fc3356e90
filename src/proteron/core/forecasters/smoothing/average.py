"""The average of three smoothings: hard to beat for its price."""

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.errors import TooShortError
from proteron.core.forecasters.forecaster import ForecasterState, Work
from proteron.core.forecasters.local import LocalForecaster
from proteron.core.forecasters.smoothing.fit import FittedForm, fit_form, run, seasonal_figure
from proteron.core.forecasters.smoothing.forecaster import Part, means_after
from proteron.core.forecasters.smoothing.forms import Form
from proteron.core.forecasters.smoothing.seasons import season_way, with_season, without_season
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints

_FORMS = (Form(), Form(trend="add"), Form(trend="add", damped=True))


class SmoothingAverage(LocalForecaster):
    """The mean of simple smoothing, smoothing with a trend and with a damped trend, of the series without its season.

    The season is taken out where the correlogram shows one (Makridakis & Hibon 2000).
    """

    title: ClassVar[str] = "average of smoothings"
    family: ClassVar[str] = "smoothing"
    can: ClassVar[tuple[str, ...]] = ("trend", "seasons", "gaps")
    cost: ClassVar[float] = 60.0
    kind: Literal["smoothing_average"] = "smoothing_average"
    period: int | None = Field(None, ge=1, title="Period", description="Empty: the step's own season.")
    season: Part = Field("auto", title="Season", description="Auto: by a test.")

    def learn_series(self, known: Panel, index: int, work: Work) -> dict[str, Any]:
        values = np.ascontiguousarray(known.series(index))
        present = np.flatnonzero(np.isfinite(values))
        if len(present) < 3:
            raise TooShortError(f"Smoothing needs 3 known points; there are {len(present)}.", field="until")
        offset = int(present[0])
        period = self.period or known.axis.step.season
        way = season_way(values[offset:], period, self.season)
        figure = seasonal_figure(values[offset:], period, way) if way else np.zeros(1)
        flat = without_season(values[offset:], figure, way)
        weights, starts = np.full((3, 4), np.nan), np.full((3, 3), np.nan)
        for row, form in enumerate(_FORMS):
            try:
                fitted = fit_form(flat, form, 1)
            except TooShortError:
                continue
            weights[row], starts[row] = fitted.weights, fitted.start
        return {"offset": offset, "way": float({None: 0, "add": 1, "mul": 2}[way]), "figure": figure,
                "period": len(figure), "weights": weights, "starts": starts}  # fmt: skip

    def means_of(self, learned: dict[str, Any], values: Floats, at: Ints, horizon: int) -> Floats:
        way, offset = (None, "add", "mul")[int(learned["way"])], int(learned["offset"])
        figure = learned["figure"][: int(learned["period"])]
        flat = without_season(np.ascontiguousarray(values[offset:]), figure, way)
        local = at - offset
        out = np.full((len(at), horizon), np.nan)
        possible = local > 0
        answers = []
        for form, weights, start in zip(_FORMS, learned["weights"], learned["starts"], strict=True):
            if np.isfinite(weights).all():
                fitted = FittedForm(form, 1, weights, np.ascontiguousarray(start), 0.0, 0.0, 0, 0, 0, True)
                answers.append(means_after(fitted, run(fitted, flat), local[possible], horizon))
        out[possible] = with_season(np.mean(answers, axis=0), figure, way, local[possible])
        return out

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        learned = self.learned(state, key)
        if learned is None:
            return {}
        names = ("simple", "trend", "damped")
        return {f"level_weight {name}": float(each[0]) for name, each in zip(names, learned["weights"], strict=True)}

    def summary_of(self, learned: dict[str, Any]) -> str:
        weights = ", ".join(f"{each[0]:.3g}" for each in learned["weights"] if np.isfinite(each[0]))
        season = ("no season", "a season added", "a season multiplied")[int(learned["way"])]
        return f"Three smoothings with level weights {weights}, averaged; {season}."
