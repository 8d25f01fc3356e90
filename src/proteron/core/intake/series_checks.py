"""What is wrong with series as a whole: gaps, flat runs, extremes, changes of unit, columns that repeat or leak."""

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.intake.findings import LEAVE, Ledger, Remedy, Span
from proteron.core.panel import Covariate, Floats, Mask, Panel
from proteron.core.timeline import Ints
from proteron.core.words import counted

_MISSING = Remedy("missing", "take these points as missing")
_MASK = Remedy("mask", "leave them out of learning and scoring")
_EXCLUDE = Remedy("exclude", "leave these series out")
_IGNORE = Remedy("ignore", "leave this column out")
_FLAT_RUN = 12
_FAR = 12.0  # robust spreads from the middle
_ALIKE = 0.99
_LEADS = 48
_SAMPLED = 20_000
_GLANCE = 4096


@kernel
def _gap_facts(values: Floats, offsets: Ints) -> tuple[Ints, Ints, Ints, Ints]:
    """Per series: missing points, gaps, longest gap and where it begins."""
    n = len(offsets) - 1
    missing, gaps = np.zeros(n, np.int64), np.zeros(n, np.int64)
    longest, where = np.zeros(n, np.int64), np.zeros(n, np.int64)
    for s in range(n):
        run = 0
        for i in range(offsets[s], offsets[s + 1]):
            if np.isnan(values[i]):
                missing[s] += 1
                gaps[s] += run == 0
                run += 1
                if run > longest[s]:
                    longest[s] = run
                    where[s] = i - run + 1 - offsets[s]
            else:
                run = 0
    return missing, gaps, longest, where


@kernel
def _flat_runs(values: Floats, offsets: Ints, least: Ints, out: Ints) -> int:
    """Runs of one repeated value of at least `least` (n_series,) points: rows (series, start, stop) in `out`."""
    found = 0
    for s in range(len(offsets) - 1):
        start = offsets[s]
        for i in range(offsets[s] + 1, offsets[s + 1] + 1):
            if i < offsets[s + 1] and values[i] == values[start]:
                continue
            if i - start >= least[s] and found < len(out) and not np.isnan(values[start]):
                out[found, 0], out[found, 1], out[found, 2] = s, start - offsets[s], i - offsets[s]
                found += 1
            start = i
    return found


def check_series(panel: Panel, ledger: Ledger, filling: str = "") -> Panel:
    """Look at every series and column; returns the panel with the remedies in force applied.

    `filling` says in words how gaps are filled afterwards; empty where they are not.
    """
    checks: tuple[Callable[[Panel, Ledger], Panel], ...] = (
        _empty_series, partial(_gaps, filling=filling), _constant, _flat, _unit_changes, _extremes,
        _discontinued, _too_short, _columns,
    )  # fmt: skip
    for check in checks:
        panel = check(panel, ledger)
    return panel


def _named(panel: Panel, indices: Ints | Sequence[int]) -> str:
    keys = [panel.keys[int(i)] for i in indices[:3]]
    return ", ".join(f"“{key}”" for key in keys) + (f" and {len(indices) - 3} more" if len(indices) > 3 else "")


def _whole(panel: Panel, indices: Ints) -> list[Span]:
    return [
        Span(panel.keys[i], int(panel.starts[i]), int(panel.starts[i] + panel.lengths[i])) for i in indices.tolist()
    ]


def _without(panel: Panel, indices: Ints) -> Panel:
    left = [i for i in range(len(panel)) if i not in set(indices.tolist())]
    return panel.select(left) if left else panel


def _empty_series(panel: Panel, ledger: Ledger) -> Panel:
    missing = _gap_facts(panel.values, panel.offsets)[0]
    empty = np.flatnonzero(missing == panel.lengths)
    if len(empty) and len(empty) < len(panel):
        message = f"{counted(len(empty), 'series has', 'series have')} no value at all: {_named(panel, empty)}."
        if ledger.add("all missing", "warning", message, count=len(empty), remedies=(_EXCLUDE, LEAVE)) == "exclude":
            return _without(panel, empty)
    return panel


def _gaps(panel: Panel, ledger: Ledger, filling: str = "") -> Panel:
    missing, gaps, longest, where = _gap_facts(panel.values, panel.offsets)
    if not missing.any():
        return panel
    worst = int(longest.argmax())
    at = panel.axis.local(np.array([panel.starts[worst] + where[worst]]))[0]
    when = str(at).replace("T", " ")
    message = (
        f"{counted(int(missing.sum()), 'step')} in {counted(int(gaps.sum()), 'gap')} of "
        f"{int((missing > 0).sum())} series {'has' if missing.sum() == 1 else 'have'} no value: "
        f"{filling or 'kept as missing, not filled'}. The longest is {counted(int(longest[worst]), 'step')} from "
        f"{when} in “{panel.keys[worst]}”."
    )
    spans = [
        Span(panel.keys[i], int(panel.starts[i] + where[i]), int(panel.starts[i] + where[i] + longest[i]))
        for i in np.argsort(-longest)[:50].tolist()
        if longest[i]
    ]
    ledger.add("gaps", "warning", message, count=int(missing.sum()), spans=spans)
    return panel


def _constant(panel: Panel, ledger: Ledger) -> Panel:
    edges = [
        (np.nanmin(v), np.nanmax(v)) if not np.isnan(v).all() else (0.0, 1.0)
        for v in map(panel.series, range(len(panel)))
    ]
    flat = np.array([i for i, (low, high) in enumerate(edges) if low == high], dtype=np.int64)
    if len(flat):
        message = f"{counted(len(flat), 'series never changes', 'series never change')}: {_named(panel, flat)}."
        remedies = (LEAVE, _EXCLUDE)
        chosen = ledger.add(
            "constant", "warning", message, count=len(flat), spans=_whole(panel, flat), remedies=remedies
        )
        if chosen == "exclude" and len(flat) < len(panel):
            return _without(panel, flat)
    return panel


def _flat(panel: Panel, ledger: Ledger) -> Panel:
    """A value that repeats for long in a series that moves otherwise: a meter that sticks."""
    least = np.full(len(panel), 2**62, dtype=np.int64)
    for index in range(len(panel)):
        values = panel.series(index)[-_SAMPLED:]
        known = values[~np.isnan(values)]
        if len(known) > 2 * _FLAT_RUN and known.min() < known.max():
            repeats = float((np.diff(known) == 0).mean())
            # A run this long is improbable at the series' own rate of repeats.
            usual = np.log(1e-6 / len(known)) / np.log(max(repeats, 1e-9)) if repeats < 0.9 else 2**40
            least[index] = max(_FLAT_RUN, int(usual) + 1)
    found = np.zeros((2000, 3), dtype=np.int64)
    count = _flat_runs(panel.values, panel.offsets, least, found)
    if not count:
        return panel
    runs = found[:count]
    spans = [Span(panel.keys[s], int(panel.starts[s] + a), int(panel.starts[s] + b)) for s, a, b in runs.tolist()]
    longest = max(spans, key=lambda span: span.stop - span.start)
    when = str(panel.axis.local(np.array([longest.start]))[0]).replace("T", " ")
    message = (
        f"{counted(count, 'run')} of one repeated value, the longest {longest.stop - longest.start:,} steps from "
        f"{when} in “{longest.key}”: a meter that sticks?"
    )
    chosen = ledger.add("flat run", "warning", message, count=count, spans=spans, remedies=(LEAVE, _MISSING, _MASK))
    return _treated(panel, spans, chosen, "flat run")


def _treated(panel: Panel, spans: Sequence[Span], chosen: str, reason: str) -> Panel:
    if chosen == "mask":
        return panel.with_masks([Mask(s.start, s.stop, reason, key=s.key) for s in spans])
    if chosen == "missing":
        values = panel.values.copy()
        for span in spans:
            index = panel.index(span.key)
            begin = int(panel.offsets[index] - panel.starts[index])
            values[begin + span.start : begin + span.stop] = np.nan
        return panel.with_values(values)
    return panel


def _unit_changes(panel: Panel, ledger: Ledger) -> Panel:
    """A jump of the level by 10, 100 or 1000 that lasts."""
    found: list[tuple[int, int, float]] = []
    for index in range(len(panel)):
        jump = _jump(panel.series(index))
        if jump is not None:
            found.append((index, *jump))
    if not found:
        return panel
    index, at, factor = found[0]
    when = str(panel.axis.local(np.array([panel.starts[index] + at]))[0]).replace("T", " ")
    named = _named(panel, [each[0] for each in found])
    message = f"The level of {named} changes by a factor of {factor:g} at {when}: a change of unit?"
    rescale = Remedy("rescale", "bring the part before to the unit of the last part")
    spans = [Span(panel.keys[i], int(panel.starts[i]), int(panel.starts[i] + a)) for i, a, _ in found]
    if (
        ledger.add("change of unit", "warning", message, count=len(found), spans=spans, remedies=(LEAVE, rescale))
        == "rescale"
    ):
        values = panel.values.copy()
        for index, at, factor in found:
            begin = int(panel.offsets[index])
            values[begin : begin + at] *= factor
        return panel.with_values(values)
    return panel


@np.errstate(divide="ignore")
def _jump(values: Floats) -> tuple[int, float] | None:
    """Where the level jumps by a power of ten for good, and the factor; None where it does not."""
    sample = np.log10(np.abs(values[:: max(1, len(values) // _GLANCE)]))
    sample = sample[np.isfinite(sample)]
    if len(sample) < 16:
        return None
    width = max(4, len(sample) // 64)
    glance = np.median(sample[: len(sample) // width * width].reshape(-1, width), axis=1)
    if np.abs(np.diff(glance)).max(initial=0.0) < 0.4:  # a jump in the middle of a block shows half
        return None
    known = np.flatnonzero(~np.isnan(values) & (values != 0))
    size = np.log10(np.abs(values[known]))
    blocks = np.array_split(size, min(64, len(size) // 4))
    levels = np.array([np.median(block) for block in blocks])
    steps = np.abs(np.diff(levels))
    if steps.max() < 0.8:
        return None
    guess = int(sum(len(b) for b in blocks[: int(steps.argmax()) + 1]))
    reach = 2 * len(blocks[0]) + 2
    low, high = max(guess - reach, 2), min(guess + reach, len(size) - 2)
    totals = np.concatenate([[0.0], np.cumsum(size)])
    at = np.arange(low, high)
    left, right = totals[at] / at, (totals[-1] - totals[at]) / (len(size) - at)
    split = int(at[np.argmax((left - right) ** 2 * at * (len(size) - at))])
    before, after = size[:split], size[split:]
    ratio = float(np.median(after) - np.median(before))
    power = round(ratio)
    restless = max(_spread(before), _spread(after), 0.02)
    if (
        1 <= abs(power) <= 3
        and abs(ratio - power) < 0.2
        and abs(ratio) > 4 * restless
        and min(len(before), len(after)) >= 8
    ):
        return int(known[split]), float(10.0**power)
    return None


def _spread(values: Floats) -> float:
    """Median absolute deviation."""
    return float(np.median(np.abs(values - np.median(values))))


def _extremes(panel: Panel, ledger: Ledger) -> Panel:
    """Single values far from all others, by median and median absolute deviation, in levels and in changes."""
    spans: list[tuple[float, Span]] = []
    for index in range(len(panel)):
        values = panel.series(index)
        sample = values[:: max(1, len(values) // _GLANCE)]
        sample = sample[~np.isnan(sample)]
        if len(sample) < 20:
            continue
        middle = float(np.median(sample))
        spread = 1.4826 * float(np.median(np.abs(sample - middle)))
        if spread <= 0:
            continue
        low, high = middle - _FAR * spread, middle + _FAR * spread
        at = np.flatnonzero((values < low) | (values > high))
        if len(at) and len(at) <= max(3, len(values) // 500):
            first = int(panel.starts[index])
            spans += [
                (abs(values[p] - middle) / spread, Span(panel.keys[index], first + int(p), first + int(p) + 1))
                for p in at
            ]
    if not spans:
        return panel
    spans.sort(key=lambda each: -each[0])
    worst = spans[0][1]
    when = str(panel.axis.local(np.array([worst.start]))[0]).replace("T", " ")
    message = (
        f"{counted(len(spans), 'value lies', 'values lie')} more than {_FAR:g} robust spreads from the middle, "
        f"first “{worst.key}” at {when}."
    )
    remedies = (LEAVE, _MISSING, _MASK)
    chosen = ledger.add(
        "extreme values", "warning", message, count=len(spans), spans=[s for _, s in spans], remedies=remedies
    )
    return _treated(panel, [s for _, s in spans], chosen, "extreme value")


def _discontinued(panel: Panel, ledger: Ledger) -> Panel:
    """Series that end well before the others, or end in zeros only."""
    ends = panel.starts + panel.lengths
    usual = int(np.median(ends))
    early = (
        np.flatnonzero(usual - ends > np.maximum(3, 0.02 * panel.lengths)) if len(panel) > 1 else np.zeros(0, np.int64)
    )
    if len(early):
        when = str(panel.axis.local(ends[early[:1]] - 1)[0]).replace("T", " ")
        said = counted(len(early), "series ends", "series end")
        message = f"{said} before the others: {_named(panel, early)}, the first at {when}."
        remedies = (LEAVE, _EXCLUDE)
        chosen = ledger.add(
            "discontinued", "warning", message, count=len(early), spans=_whole(panel, early), remedies=remedies
        )
        if chosen == "exclude":
            return _without(panel, early)
    return panel


def _too_short(panel: Panel, ledger: Ledger) -> Panel:
    """Seasons the step implies of which fewer than two cycles are there."""
    longest = int(panel.lengths.max(initial=0))
    names = {
        "second": ("minute", "hour", "day"), "minute": ("hour", "day", "week"), "hour": ("day", "week", "year"),
        "day": ("week", "year"), "week": ("year",), "month": ("year",), "quarter": ("year",),
    }  # fmt: skip
    seasons = panel.axis.step.seasons
    words = names.get(panel.axis.step.unit, ())[-len(seasons) :] if seasons else ()
    lacking = [(word, length) for word, length in zip(words, seasons, strict=False) if longest < 2 * length]
    if lacking:
        said = "; ".join(
            f"the season of the {word} needs {int(np.ceil(2 * length)):,} steps" for word, length in lacking
        )
        message = f"The longest series has {counted(longest, 'step')}: {said}, and cannot be learned from this."
        ledger.add("too short", "note", message, count=len(lacking))
    return panel


def _correlation(a: Floats, b: Floats) -> float:
    both = ~np.isnan(a) & ~np.isnan(b)
    if both.sum() < 10:
        return float("nan")
    x, y = a[both] - a[both].mean(), b[both] - b[both].mean()
    size = np.sqrt((x**2).sum() * (y**2).sum())
    return float((x * y).sum() / size) if size > 0 else float("nan")


def _aligned(panel: Panel, column: Covariate, index: int) -> tuple[Floats, Floats]:
    values = panel.series(index)[:_SAMPLED]
    return values, column.series(index)[: len(values)]


def _columns(panel: Panel, ledger: Ledger) -> Panel:
    """Columns that repeat each other, and columns that hold the target or its future."""
    if not panel.covariates or not len(panel):
        return panel
    index = int(panel.lengths.argmax())
    steady, dropped = _steady_columns(panel, ledger)
    moving = [c for c in panel.covariates if c.role != "static" and not c.labels and c.name not in steady]
    dropped |= {column.name for column in moving if _is_dropped_as_leak(panel, column, index, ledger)}
    left = [c for c in moving if c.name not in dropped]
    for number, column in enumerate(left):
        for other in left[:number]:
            if dropped.isdisjoint((other.name, column.name)) and _is_redundant(panel, column, other, index, ledger):
                dropped.add(column.name)
    return replace(panel, covariates=tuple(c for c in panel.covariates if c.name not in dropped)) if dropped else panel


def _is_dropped_as_leak(panel: Panel, column: Covariate, index: int, ledger: Ledger) -> bool:
    """Say where a column shows the target or its future; whether it is chosen to be ignored for that."""
    values, beside = _aligned(panel, column, index)
    leak = _leak(values, beside)
    if leak is None:
        return False
    ahead, strength = leak
    target = "the target" if ahead == 0 else f"the target {ahead} step{'s' if ahead > 1 else ''} later"
    likeness = _likeness(values[ahead:], beside[: len(beside) - ahead], strength, target)
    message = f"“{column.name}” {likeness}: a forecaster that reads it would know the answer."
    chosen = ledger.add("leaks the target", "warning", message, about=column.name, remedies=(_IGNORE, LEAVE), count=1)
    return chosen == "ignore"


def _steady_columns(panel: Panel, ledger: Ledger) -> tuple[set[str], set[str]]:
    """Columns that have one value throughout, and those of them that are chosen to be ignored for that."""
    steady = [c.name for c in panel.covariates if c.role != "static" and _never_changes(c)]
    return set(steady), {name for name in steady if _is_dropped_as_constant(name, ledger)}


def _never_changes(column: Covariate) -> bool:
    known = column.values[~np.isnan(column.values)]
    return len(known) > 0 and bool(known.min() == known.max())


def _is_dropped_as_constant(name: str, ledger: Ledger) -> bool:
    """Say that a column has one value throughout; whether it is chosen to be ignored for that."""
    message = f"“{name}” has one value throughout: nothing can be learned from it."
    return ledger.add("constant column", "note", message, about=name, remedies=(LEAVE, _IGNORE), count=1) == "ignore"


def _likeness(target: Floats, column: Floats, strength: float, named: str) -> str:
    """How a column resembles what it leaks, in the words that are true of it."""
    size = min(len(target), len(column))
    both = ~np.isnan(target[:size]) & ~np.isnan(column[:size])
    x, y = target[:size][both], column[:size][both]
    if (x == y).all():
        return f"equals {named}" if named == "the target" else f"is {named}"
    if abs(strength) < 0.999999:
        return f"is almost the same as {named} (correlation {strength:.4f})"
    slope = float((x * y).sum() / (x * x).sum())
    scale = max(float(np.abs(y).max()), 1e-300)
    if np.abs(y - slope * x).max() <= 1e-3 * scale:
        return f"is proportional to {named} ({slope:.4g} × it)"
    return f"is a straight line of {named} (correlation {strength:+.6f})"


def _is_redundant(panel: Panel, column: Covariate, other: Covariate, index: int, ledger: Ledger) -> bool:
    """Say where a column repeats another; whether it is chosen to be ignored for that."""
    strength = _correlation(_aligned(panel, column, index)[1], _aligned(panel, other, index)[1])
    if not abs(strength) > _ALIKE:
        return False
    how = "equal" if strength > 0.9999999 else f"correlated at {strength:+.3f}"
    message = f"“{column.name}” and “{other.name}” are {how}: one of them is enough."
    return ledger.add("redundant", "note", message, about=column.name, remedies=(LEAVE, _IGNORE), count=1) == "ignore"


def _leak(values: Floats, column: Floats) -> tuple[int, float] | None:
    """How many steps ahead of itself a column shows the target, and how closely; None when it does not."""
    best: tuple[int, float] | None = None
    usual = abs(_correlation(values[1:], values[:-1]))
    for ahead in range(min(_LEADS, max(len(values) // 4, 1))):
        later, now = values[ahead:], column[: len(column) - ahead] if ahead else column
        size = min(len(later), len(now))
        strength = _correlation(later[:size], now[:size])
        if abs(strength) > _ALIKE and (best is None or abs(strength) > abs(best[1]) + 1e-9):
            best = (ahead, strength)
    if best is not None and abs(best[1]) < 0.999999 and usual > _ALIKE and best[0] > 0:
        return None  # the target resembles its own future; so does anything like it
    return best
