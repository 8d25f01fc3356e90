"""Folds as one line of text, written and read: “8 folds, all before, every 21 d, gap 6 h, 48 h ahead”."""

import re
from collections.abc import Callable
from typing import Any

from proteron.core.errors import SettingsError
from proteron.core.judge.designs import Folds
from proteron.core.timeline import Step

MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")
_DAY = 86400
_IN_DAYS = 3  # days from which on a length is told in days
_CALENDAR = ("month", "quarter", "year")
_SHORT = {
    "second": "s", "minute": "min", "hour": "h", "day": "d", "week": "wk", "business_day": "bd", "month": "mo",
    "quarter": "q", "year": "y",
}  # fmt: skip
_KINDS = (
    "“8 folds, all before”, “8 folds, the last 60 d”, “one hold-out of 20 %”, “folds after 2024-03-01; 2024-06-01” or "
    "“8 folds, the first 20 days of every month”"
)
_LENGTH = r"(\d+(?: ?[a-z]+)?)"
_Found = dict[str, Any]


def duration_text(steps: int, step: Step) -> str:
    """Steps as people say them: 48 steps of 1 hour are “48 h”, 504 are “21 d”."""
    if step.unit in ("second", "minute", "hour") and steps:
        seconds = int(steps * step.nominal_seconds)
        if seconds % _DAY == 0 and seconds >= _IN_DAYS * _DAY:
            return f"{seconds // _DAY} d"
    return f"{steps * step.count} {_SHORT[step.unit]}"


def duration(text: str, step: Step) -> int:
    """Whole steps of a text such as “6 h”, “21 d” or “48 steps”; raises `SettingsError` where they are not whole."""
    match = re.fullmatch(r"(\d+) ?([a-z]*)", text.strip())
    if match is None:
        raise SettingsError(f"“{text}” is not a length such as “6 h” or “48 steps”.", field="folds")
    count, word = int(match[1]), match[2]
    if word in ("", "step", "steps"):
        return count
    unit = Step.parse(word)
    alike = unit.unit == step.unit or (unit.unit in _CALENDAR) == (step.unit in _CALENDAR)
    mixed = (unit.unit == "business_day") != (step.unit == "business_day")
    whole, rest = divmod(round(count * unit.nominal_seconds), round(step.nominal_seconds))
    if not alike or mixed or rest:
        raise SettingsError(f"{text} are no whole number of steps; one step is {step}.", field="folds")
    return whole


def folds_text(folds: Folds, step: Step) -> str:
    """What a design says in one line, lengths in the units of `step`; `read_folds` gives the design back."""
    told = [_kind_text(folds, step)]
    walking = folds.kind in ("expanding", "sliding")
    if walking and folds.spacing:
        told.append(f"every {duration_text(folds.spacing, step)}")
    if folds.gap:
        told.append(f"gap {duration_text(folds.gap, step)}")
    told.append(f"{duration_text(folds.horizon, step)} ahead")
    if folds.span and folds.kind in ("expanding", "sliding", "at"):
        told.append(f"{duration_text(folds.span, step)} scored")
    if folds.every:
        told.append(f"origin every {duration_text(folds.every, step)}")
    if folds.sealed:
        told.append(f"last {folds.sealed} sealed")
    if folds.refit != 1:
        told.append(f"learned every {folds.refit} folds" if folds.refit else "learned once")
    if folds.steps:
        told.append("steps " + "; ".join(map(str, folds.steps)))
    if folds.months:
        told.append("months " + "; ".join(MONTHS[month - 1] for month in folds.months))
    return ", ".join(told)


def _kind_text(folds: Folds, step: Step) -> str:
    if folds.kind == "single":
        size = duration_text(folds.span, step) if folds.span else ""
        size = size or (f"{folds.share * 100:.12g} %" if folds.share and not folds.cutoffs else "")
        after = f" after {_moment_text(folds.cutoffs[0])}" if folds.cutoffs else ""
        return f"one hold-out{f' of {size}' if size else ''}{after}"
    if folds.kind == "at":
        return "folds after " + "; ".join(map(_moment_text, folds.cutoffs))
    many = f"{folds.count} fold{'' if folds.count == 1 else 's'}"
    if folds.kind == "calendar":
        days = f"{folds.learn} day{'' if folds.learn == 1 else 's'}"
        return f"{many}, the first {days} of every {folds.period}{', the rest hidden' if folds.hidden else ''}"
    if folds.kind == "sliding":
        return f"{many}, {f'the last {duration_text(folds.length, step)}' if folds.length else 'as long as the first'}"
    return f"{many}, all before"


def _moment_text(moment: int | str) -> str:
    """A time as it is; a number of known points says that it is one, or 2024 would be a year."""
    return f"point {moment}" if isinstance(moment, int) else moment


def _moments(text: str) -> tuple[int | str, ...]:
    told = [each.strip() for each in text.split(";") if each.strip()]
    points = [re.fullmatch(r"point (\d+)", each) for each in told]
    return tuple(int(point[1]) if point else each for point, each in zip(points, told, strict=True))


def _hold_out(found: "re.Match[str]", step: Step) -> _Found:
    told: _Found = {"kind": "single"}
    size, after = found["size"], found["after"]
    if size and size.endswith("%"):
        told["share"] = float(size.removesuffix("%")) / 100
    elif size:
        told["span"] = duration(size, step)
    return told | ({"cutoffs": _moments(after)} if after else {})


def _months(text: str) -> tuple[int, ...]:
    names = [each.strip() for each in text.split(";") if each.strip()]
    unknown = next((name for name in names if name[:3].title() not in MONTHS), None)
    if unknown is not None:
        raise SettingsError(f"“{unknown}” is not a month such as “{MONTHS[5]}”.", field="folds")
    return tuple(MONTHS.index(name[:3].title()) + 1 for name in names)


def _length_as(name: str) -> Callable[["re.Match[str]", Step], _Found]:
    return lambda found, step: {name: duration(found[1], step)}


_PHRASES: tuple[tuple[str, Callable[["re.Match[str]", Step], _Found]], ...] = (
    (r"(\d+) folds?", lambda found, _: {"count": int(found[1])}),
    (r"all before", lambda found, _: {"kind": "expanding"}),
    (r"as long as the first", lambda found, _: {"kind": "sliding"}),
    (rf"the last {_LENGTH}", lambda found, step: {"kind": "sliding", "length": duration(found[1], step)}),
    (r"one hold-?out(?: of (?P<size>[\d.]+ ?%|\d+(?: ?[a-z]+)?))?(?: after (?P<after>.+))?", _hold_out),
    (r"folds after (.+)", lambda found, _: {"kind": "at", "cutoffs": _moments(found[1])}),
    (
        r"the first (\d+) days? of every (week|month|quarter|year)",
        lambda found, _: {"kind": "calendar", "learn": int(found[1]), "period": found[2]},
    ),
    (r"the rest hidden", lambda found, _: {"hidden": True}),
    (rf"every {_LENGTH}", _length_as("spacing")),
    (rf"gap {_LENGTH}", _length_as("gap")),
    (rf"{_LENGTH} ahead", _length_as("horizon")),
    (rf"{_LENGTH} scored", _length_as("span")),
    (rf"origin every {_LENGTH}", _length_as("every")),
    (r"last (\d+) sealed", lambda found, _: {"sealed": int(found[1])}),
    (r"learned every (\d+) folds?", lambda found, _: {"refit": int(found[1])}),
    (r"learned each fold", lambda found, _: {"refit": 1}),
    (r"learned once", lambda found, _: {"refit": 0}),
    (r"steps (.+)", lambda found, _: {"steps": _numbers(found[1])}),
    (r"months (.+)", lambda found, _: {"months": _months(found[1])}),
)


def _numbers(text: str) -> tuple[int, ...]:
    told = [each.strip() for each in text.split(";") if each.strip()]
    wrong = next((each for each in told if not each.isdigit()), None)
    if wrong is not None:
        raise SettingsError(f"“{wrong}” is not a number of steps.", field="folds")
    return tuple(map(int, told))


def read_folds(text: str, step: "Step | str") -> Folds:
    """The design that one line describes; what is not said is as by default.

    `step` is that of the data, such as “1 hour”. Raises `SettingsError` that quotes what is not understood, or said
    twice.
    """
    step, told = Step.parse(step), {}
    for phrase in filter(None, (each.strip() for each in text.split(","))):
        for name, value in _read(phrase, step).items():
            if name in told:
                raise SettingsError(f"“{phrase}” says once more what is said before.", field="folds")
            told[name] = value
    if "kind" not in told:
        raise SettingsError(f"It is not said what is learned: {_KINDS}.", field="folds")
    return Folds.parse(told)


def _read(phrase: str, step: Step) -> _Found:
    for pattern, meaning in _PHRASES:
        found = re.fullmatch(pattern, phrase, re.IGNORECASE)
        if found is not None:
            return meaning(found, step)
    raise SettingsError(f"“{phrase}” is not understood. Say {_KINDS}; “gap 6 h”; “48 h ahead”.", field="folds")
