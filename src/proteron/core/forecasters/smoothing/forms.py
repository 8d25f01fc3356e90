"""The forms of exponential smoothing: error, trend, damping and season (Hyndman et al. 2008)."""

import itertools
from dataclasses import dataclass
from typing import Literal

import numpy as np

from proteron.core.panel import Floats

Way = Literal["additive", "multiplicative"]
NONE, ADD, MUL = 0, 1, 2
_CODES: dict[str | None, int] = {None: NONE, "additive": ADD, "multiplicative": MUL}


@dataclass(frozen=True)
class Form:
    """Additive or multiplicative errors; no, additive or multiplicative trend, damped or not, and season."""

    error: Way = "additive"
    trend: Way | None = None
    season: Way | None = None
    damped: bool = False

    @property
    def codes(self) -> tuple[int, int, int]:
        """Error, trend and season as the kernels know them."""
        return _CODES[self.error], _CODES[self.trend], _CODES[self.season]

    @property
    def needs_positive(self) -> bool:
        """Whether the values must be above zero."""
        return "multiplicative" in (self.error, self.trend, self.season)

    @property
    def stable(self) -> bool:
        """Whether its forecasts have finite variance and its weights do not divide by what may pass zero."""
        return self.trend != "multiplicative" and not (self.error == "additive" and self.season == "multiplicative")

    def free(self, period: int) -> int:
        """Numbers that are estimated: weights, start values, spread."""
        weights = 1 + (self.trend is not None) + (self.season is not None) + self.damped
        starts = 1 + (self.trend is not None) + (period - 1 if self.season is not None else 0)
        return weights + starts + 1

    @property
    def words(self) -> str:
        """Such as “additive errors, damped additive trend, multiplicative season”."""
        trend = f"{'damped ' if self.damped else ''}{self.trend or 'no'} trend"
        return f"{self.error} errors, {trend}, {self.season or 'no'} season"


def admissible_forms(
    values: Floats, period: int, error: str | None = "auto", trend: str | None = "auto", season: str | None = "auto",
    damped: bool | None = None,
) -> list[Form]:  # fmt: skip
    """Forms that fit what is asked and the series allows; “auto” leaves out those that are not `Form.stable`.

    `damped` None tries both. A season needs a period of at least 2 and two cycles and a bit of known points;
    multiplicative parts need values above zero; no form has more free numbers than a series has points to tell.
    """
    errors = ("additive", "multiplicative") if error == "auto" else (error,)
    trends = (None, "additive") if trend == "auto" else (trend,)
    seasons = (None, "additive", "multiplicative") if season == "auto" else (season,)
    ways = (False, True) if damped is None else (damped,)
    wholly_given = "auto" not in (error, trend, season)
    combined = itertools.product(errors, trends, ways, seasons)
    forms = [Form(one, two, three, way) for one, two, way, three in combined if two is not None or not way]  # type: ignore[arg-type]
    return [form for form in forms if (form.stable or wholly_given) and _is_allowed(form, values, period)]


def _is_allowed(form: Form, values: Floats, period: int) -> bool:
    """Whether a series has the sign, the cycles and the points that a form needs."""
    known = values[np.isfinite(values)]
    if form.needs_positive and not (len(known) > 0 and known.min() > 0):
        return False
    if form.season is not None and (period < 2 or len(known) < 2 * period + 2):
        return False
    return bool(len(known) > form.free(period if form.season else 1) + 1)
