"""An outlook in words: plain, with unit and level, claiming nothing that is not so."""

from dataclasses import dataclass

import numpy as np

from proteron.core.errors import InputError
from proteron.core.panel import Floats
from proteron.core.timeline import Moment, TimeAxis
from proteron.core.words import counted

_CLOCKED = ("second", "minute", "hour")
_SHOWN = 4  # significant digits of a value
_RISE = 0.5  # of the typical half-width, that the ends must differ by to be a direction


@dataclass(frozen=True)
class Said:
    """What is told of one series: its `mean`, `low` and `high` (horizon,) at `level`, `paths` (n_paths, horizon), what
    was known (n_points,), and of what ranges were made and how they `held` out of `of` times."""

    axis: TimeAxis
    key: str
    unit: str
    origin: int
    mean: Floats
    low: Floats | None
    high: Floats | None
    level: float | None
    paths: Floats
    past: Floats
    held: float | None
    of: int
    errors: int
    how: str

    def number(self, value: float) -> str:
        """With its unit, to as many digits as the series' spread gives sense to."""
        return f"{self.bare(value)}{f' {self.unit}' if self.unit else ''}"

    def bare(self, value: float) -> str:
        """Without it."""
        known = np.abs(self.mean[np.isfinite(self.mean)])
        size = float(known.max()) if len(known) else abs(value)
        decimals = int(np.clip(_SHOWN - 1 - np.floor(np.log10(size)) if size > 0 else 0, 0, 6))
        return f"{value:,.{decimals}f}"

    def when(self, step: int) -> str:
        """The local time of a step, as far as the grid tells it."""
        local = self.axis.local(np.array([self.origin + step]))[0]
        unit = self.axis.step.unit
        moment = local.astype("datetime64[s]").item()
        if unit in ("month", "quarter"):
            return f"In {moment:%B %Y}"
        if unit == "year":
            return f"In {moment:%Y}"
        day = f"{moment:%A} {moment.day} {moment:%B %Y}"
        return f"On {day} at {moment:%H:%M}" if unit in _CLOCKED else f"On {day}"


def whole_sentence(said: Said, at: Moment | None, above: float | None) -> str:
    """Of one step, by default the first."""
    step = 0 if at is None else said.axis.position_of(at) - said.origin
    if not 0 <= step < len(said.mean):
        raise InputError(f"{at} is not among the {counted(len(said.mean), 'step')} ahead.", field="at")
    if not np.isfinite(said.mean[step]):
        return f"There is no forecast of {said.key}."
    parts = [f"{said.when(step)}, {said.key} is expected at {said.number(float(said.mean[step]))}"]
    if said.level is not None and said.low is not None and said.high is not None and np.isfinite(said.low[step]):
        ends = f"{said.bare(float(said.low[step]))} and {said.number(float(said.high[step]))}"
        parts.append(f"in {100 * said.level:g} of 100 such cases it lies between {ends}")
    out = "; ".join(parts) + "."
    if above is not None:
        share = 100 * float((said.paths[:, step] > above).mean())
        shown = "less than 1" if 0 < share < 1 else "more than 99" if 99 < share < 100 else f"{share:.0f}"
        out += f" More than {said.number(above)} then: {shown} in 100."
    return out


def whole_paragraph(said: Said) -> str:
    """Of all steps: level, direction, peak, width, and what that rests on."""
    known = np.flatnonzero(np.isfinite(said.mean))
    if not len(known):
        return f"There is no forecast of {said.key}."
    mean = said.mean[known]
    last = said.when(int(known[-1])).split(" ", 1)[1]
    parts = [f"Up to {last}, {said.key} is expected at {said.number(float(mean.mean()))} on average"]
    past = said.past[np.isfinite(said.past)][-len(said.mean) :]
    if len(past):
        parts.append(_against(said, float(mean.mean() - past.mean()), counted(len(past), "step")))
    out = ", ".join(parts) + "."
    top = int(known[np.argmax(mean)])
    out += f" It is highest {said.when(top)[0].lower()}{said.when(top)[1:]}, at {said.number(float(said.mean[top]))}."
    width = _half_width(said)
    if width is not None and said.level is not None:
        out += f" Ranges of {100 * said.level:g} % reach {said.number(width)} to either side on average"
        source = f"from {counted(said.errors, 'origin')} of {said.how}"
        out += f", {source if said.how != 'theory' else 'not from errors out of sample'}."
        if said.held is not None:
            out += f" Such ranges held {100 * said.held:.1f} % of {counted(said.of, 'later value')}."
    return out


def _against(said: Said, change: float, before: str) -> str:
    """How the mean compares with that of as many steps before."""
    width = _half_width(said)
    if change == 0 or (width is not None and abs(change) < _RISE * width):
        return f"about as in the {before} before"
    return f"{said.number(abs(change))} {'more' if change > 0 else 'less'} than in the {before} before"


def _half_width(said: Said) -> float | None:
    if said.low is None or said.high is None or not np.isfinite(said.high - said.low).any():
        return None
    return float(np.nanmean(said.high - said.low) / 2)
