"""From what was found to events: pieces that belong together are one, and each is called what it looks like."""

from dataclasses import dataclass, field, replace

import numpy as np

from proteron.core.detection.bridging import by_phase, filled, levels
from proteron.core.detection.elsewhere import found_elsewhere
from proteron.core.detection.evidence import STEP_AHEAD, step_response
from proteron.core.detection.exact import Span
from proteron.core.detection.joint import Looked, Piece
from proteron.core.panel import Floats

KINDS = (
    "spike", "level shift", "burst", "drift", "slip", "flat-line", "zeros", "gap", "clipping", "unit change", "shape",
)  # fmt: skip
_CLOSE = 3  # points between pieces that belong together
_LONGEST_SHIFT = 100  # points after which a level that came back is two events, or four seasons
_BACK = 0.35  # of the largest height, within which a level has come back
_SURE = 60.0  # what an exact test says, on the scale of evidence, and more for every point
_SURE_POINT = 2.0
_FACTORS = (2.0, 3.6, 3.785, 4.0, 10.0, 35.31, 60.0, 100.0, 1000.0, 3600.0)  # between units of one quantity
_NEAR_FACTOR = 0.03
_NEAR_IS = 1.3  # how much worse than a height a factor between units may explain
_SPIKE = 2  # points
_DRIFTS = (8, 12, 16, 24, 32, 48, 64, 96)  # points
_DRIFT_PRICE = 8.0
_MOST = 1e12
_SEEN_BEFORE, _SEEN_AFTER = 24, 12  # points whose level is compared with what came between
_BACK_AT, _CLEAR, _FROM_NOTHING = 0.5, 0.6, 0.35  # of a step; of the variance; of the end of a line
_AROUND = 3  # longest seasons around an event that tell what was expected in it


@dataclass
class Event:
    """A span with what it is called; `net` is its evidence less the price, on the scale of the tail's squares."""

    start: int
    stop: int
    kind: str
    net: float
    steps: list[Piece] = field(default_factory=list)
    exact: bool = False
    without: Floats | None = None  # (n_points of the span,) what was expected had it not been


def is_lasting(kind: str, start: int, stop: int) -> bool:
    """Whether it tells of a level that moved and stayed, which is no span of wrong values."""
    return kind == "level shift" and stop - start == 1


def events_of(looked: Looked, values: Floats, seasons: tuple[int, ...]) -> list[Event]:
    """What was found in values (n_points,) as events in time order; none overlap."""
    own = [Event(each.start, each.stop, each.kind, _sure(each), exact=True) for each in looked.exact]
    steps = [each for each in looked.pieces if each.step]
    longest = max(_LONGEST_SHIFT, 4 * (seasons[0] if seasons else 1))
    events = _by_factor(_shifts(steps, looked.tail, longest), longest, looked, values, seasons)
    for each in (each for each in looked.pieces if not each.step):
        events.append(Event(each.start, each.stop, "", _net(each, looked.tail)))
    named = [_named(each, looked, values, seasons) for each in _joined(events)]
    drifts = [each for each in named if each.kind == "drift"]
    whole = [each for each in named if not any(_is_within(each, drift) for drift in drifts)]
    return sorted(_apart(_with_elsewhere(whole, looked, values, seasons), own), key=lambda each: each.start)


def _with_elsewhere(events: list[Event], looked: Looked, values: Floats, seasons: tuple[int, ...]) -> list[Event]:
    """What follows the usual of elsewhere in the place of what else was found of it, unless that says more and reaches
    further."""
    shown = looked.scale.into(np.where(np.isfinite(values), values, 1.0))
    shown[~np.isfinite(values)] = np.nan
    for each in looked.exact:
        shown[each.start : each.stop] = np.nan
    for one in found_elsewhere(shown, looked.first, seasons, looked.scale.logged):
        net, around = one.net, range(one.start - _CLOSE, one.stop + _CLOSE + 1)
        touched = [each for each in events if each.start < one.stop and one.start < each.stop]
        if not any(
            each.net > net and each.kind != one.kind and not (each.start in around and each.stop in around)
            for each in touched
        ):
            net = max(net, *(each.net for each in touched), 0.0)
            mine = Event(one.start, one.stop, one.kind, net)
            mine.without = looked.scale.out_of(_without(mine, looked, seasons))[one.start : one.stop]
            events = [each for each in events if each not in touched] + [mine]
    return events


def _is_within(event: Event, other: Event) -> bool:
    """Whether an event of steps is a part of another one."""
    return event is not other and bool(event.steps) and other.start <= event.start and event.stop <= other.stop


def _sure(span: Span) -> float:
    return _SURE + _SURE_POINT * (span.stop - span.start)


def _net(piece: Piece, tail: float) -> float:
    return piece.evidence / tail**2 - piece.price


def _shifts(steps: list[Piece], tail: float, longest: int) -> list[Event]:
    """Steps after which the level comes back are one event over the whole span; any other stands alone."""
    found, place = [], 0
    while place < len(steps):
        height = highest = 0.0
        closing = None
        for later in range(place, len(steps)):
            if steps[later].start - steps[place].start > longest:
                break
            height += steps[later].size
            highest = max(highest, abs(height))
            if later > place and abs(height) <= _BACK * highest:
                closing = later
                break
        last = place if closing is None else closing
        mine = steps[place : last + 1]
        stop = mine[0].stop if closing is None else mine[-1].start
        found.append(Event(mine[0].start, stop, "", max(_net(each, tail) for each in mine), mine))
        place = last + 1
    return found


def _by_factor(
    events: list[Event], longest: int, looked: Looked, values: Floats, seasons: tuple[int, ...]
) -> list[Event]:  # fmt: skip
    """A step up and one down that are of other heights, but between which a factor holds, are one event."""
    out = list[Event]()
    for each in events:
        last = out[-1] if out else None
        if last is not None and _stays(last) and _stays(each) and each.start - last.start <= longest:
            whole = Event(last.start, each.start, "", max(last.net, each.net), [*last.steps, *each.steps])
            usual = looked.scale.out_of(_without(whole, looked, seasons))[whole.start : whole.stop]
            observed = values[whole.start : whole.stop]
            there = np.isfinite(observed)
            opposite = last.steps[0].size * each.steps[0].size < 0
            if opposite and is_factor(observed[there], usual[there]):
                out[-1] = replace(whole, kind="unit change")
                continue
        out.append(each)
    return out


def _joined(events: list[Event]) -> list[Event]:
    """What is close together is one event; a level that stays moved is told alone."""
    out: list[Event] = []
    for each in sorted(events, key=lambda each: each.start):
        last = out[-1] if out else None
        if last is not None and each.start <= last.stop + _CLOSE and not (_stays(last) or _stays(each)):
            last.stop, last.net = max(last.stop, each.stop), max(last.net, each.net)
            last.steps += each.steps
        elif last is None or each.start >= last.stop:
            out.append(each)
    return out


def _stays(event: Event) -> bool:
    return len(event.steps) == 1


def _apart(events: list[Event], own: list[Event]) -> list[Event]:
    """Exact findings as they are; of other events, those that touch none."""
    free = [each for each in events if not any(each.start <= o.stop and o.start <= each.stop for o in own)]
    return own + free


def _named(event: Event, looked: Looked, values: Floats, seasons: tuple[int, ...]) -> Event:
    alone = _stays(event)
    drift = None
    if alone:
        step = event.steps[0]
        drift = _drift_of(step, looked) or drifted_into(looked.clean + looked.shift, step.start, step.size, seasons)
    if drift is not None:
        event.kind, event.start, event.stop = "drift", *drift
    expected = _without(event, looked, seasons) if (event.steps and not alone) or drift else looked.clean + looked.shift
    if alone and drift is None:
        event.kind, expected = "level shift", expected - event.steps[0].size
    expected = looked.scale.out_of(expected)
    if not event.kind:
        event.kind = kind_of(values, expected, slice(event.start, event.stop), seasons[0] if seasons else 1)
    if event.kind == "drift":
        _begun(event, values, expected)
    event.without = expected[event.start : event.stop]
    return event


def _drift_of(step: Piece, looked: Looked) -> tuple[int, int] | None:
    """The span of a drift that ends (or begins) with a step, where it explains the errors better than the step."""
    assert looked.expectation is not None
    taps, weights = looked.expectation.taps
    response = step_response(taps, weights, STEP_AHEAD)
    errors, best, span = looked.errors.copy(), 0.0, None
    ahead = min(len(errors) - step.start, STEP_AHEAD)
    errors[step.start : step.start + ahead] += step.size * response[:ahead]
    alone = _explained(errors, looked.weights, response[:ahead], step.start)
    for length in _DRIFTS:
        line = np.arange(1, length + 1) / length
        for signal, start in ((line, step.start - length), (line[::-1], step.start)):
            if start < 0 or start + length + STEP_AHEAD > len(errors):
                continue
            shown = np.zeros(length + STEP_AHEAD)
            for tap, weight in zip(taps.tolist(), weights.tolist(), strict=True):
                part = signal[: max(len(shown) - tap, 0)]
                shown[tap : tap + len(part)] += weight * part
            found = _explained(errors, looked.weights, shown, start)
            if found > max(best, alone + _DRIFT_PRICE):
                best, span = found, (start, start + length)
    return span


def drifted_into(
    values: Floats, at: int, size: float, seasons: tuple[int, ...], most: int = _SEEN_AFTER
) -> tuple[int, int] | None:
    """The span of a drift that a step of a size at a place ends: values (n_points,) grew away from their level along a
    line, and the step takes them back to it. At most so many points after the step are looked at."""
    season = seasons[0] if seasons else 1
    low = max(at - _DRIFTS[-1] - max(3 * season, _SEEN_BEFORE), 0)
    part, step = values[low : at + most], at - low
    hidden = np.zeros(len(part), dtype=bool)
    hidden[max(step - _DRIFTS[-1], 0) : step] = True
    phase = (low + np.arange(len(part))) % season
    shown = np.where(hidden, np.nan, part)
    flat = part - (by_phase(shown - levels(shown, season), phase, season)[phase] if season > 1 else 0.0)
    after = flat[step:]
    best, span = _CLEAR, None
    for length in _DRIFTS[1:]:
        before = flat[max(step - length - _SEEN_BEFORE, 0) : max(step - length, 0)]
        if not np.isfinite(before).sum() >= 8 or not np.isfinite(after).any():
            break
        level = float(np.nanmedian(before))
        if abs(float(np.nanmedian(after)) - level) > _BACK_AT * abs(size):
            continue
        off = flat[step - length : step] - level
        there = np.isfinite(off)
        if there.sum() < 8:
            continue
        line = np.linspace(0, 1, length)[there]
        slope, begins = np.polyfit(line, off[there], 1)
        left = off[there] - begins - slope * line
        explained = 1 - float((left**2).sum()) / max(float(((off[there] - off[there].mean()) ** 2).sum()), 1e-300)
        ends = begins + slope
        from_nothing = ends * size < 0 and abs(begins) < _FROM_NOTHING * abs(ends)
        if from_nothing and explained > max(best, _explained_by_step(off[there])):
            best, span = explained, (at - length, at)
    return span


def _explained_by_step(off: Floats) -> float:
    """The share of the variance (n_points,) that the best single step explains."""
    count, total = np.arange(1, len(off)), np.cumsum(off)
    means = total[:-1] / count, (total[-1] - total[:-1]) / count[::-1]
    between = count * means[0] ** 2 + count[::-1] * means[1] ** 2 - total[-1] ** 2 / len(off)
    return float(between.max()) / max(float(((off - off.mean()) ** 2).sum()), 1e-300)


def _explained(errors: Floats, weights: Floats, shown: Floats, start: int) -> float:
    part = slice(start, start + len(shown))
    below = float((shown**2 * weights[part]).sum())
    above = float((shown * weights[part] * errors[part]).sum())
    return min(above * above / below, _MOST) if below > 0 else 0.0


def _without(event: Event, looked: Looked, seasons: tuple[int, ...]) -> Floats:
    """What was expected without an event, in its scale: what lies around it, bridged, where a level moved."""
    out = looked.clean + looked.shift
    if not _stays(event):
        for each in event.steps:
            out[each.start :] -= each.size
    around = _AROUND * (seasons[-1] if seasons else 8) + event.stop - event.start
    low, high = max(event.start - around, 0), min(event.stop + around, len(out))
    hidden = np.zeros(high - low, dtype=bool)
    hidden[event.start - low : event.stop - low] = True
    out[low:high] = filled(out[low:high], hidden, low, seasons)
    return out


def _begun(event: Event, values: Floats, expected: Floats) -> None:
    """Move the ends of a drift to where its line comes from nothing."""
    off = (values - expected)[event.start : event.stop]
    there = np.isfinite(off)
    slope, begins = np.polyfit(np.flatnonzero(there), off[there], 1)
    if slope * (2 * begins + slope * len(off)) > 0:
        event.start = max(event.start - round(min(max(begins / slope, 0.0), 0.6 * len(off))), 0)


def kind_of(values: Floats, expected: Floats, part: slice, season: int) -> str:
    """What values (n_points,) look like over a part, given what was expected without it."""
    observed, usual = values[part], expected[part]
    there = np.isfinite(observed)
    observed, usual = observed[there], usual[there]
    if len(observed) <= _SPIKE:
        return "spike"
    off = observed - usual
    if is_factor(observed, usual):
        return "unit change"
    if len(off) >= 5 and _is_moved(values, expected, part, season):
        return "slip"
    if len(off) >= 8 and _is_ramp(off):
        return "drift"
    if abs(off.mean()) > 1.2 * off.std():
        return "level shift" if len(off) > _SPIKE + 1 else "spike"
    return "burst"


def is_factor(observed: Floats, usual: Floats) -> bool:
    """Whether a factor explains better than a height, or is one between units."""
    good = np.abs(usual) > 0.1 * np.abs(usual).max()
    if good.sum() < 4 or ((usual == 0) & (observed != 0)).any():
        return False
    ratio = float(np.median(observed[good] / usual[good]))
    if ratio <= 0 or abs(np.log(ratio)) < 0.3:
        return False
    height = float(np.median(observed - usual))
    by_factor, by_height = np.abs(observed - ratio * usual), np.abs(observed - usual - height)
    near = min(abs(abs(np.log(ratio)) - np.log(each)) for each in _FACTORS) < _NEAR_FACTOR
    better = float(np.median(by_factor)) < (_NEAR_IS if near else 0.6) * float(np.median(by_height))
    return better and float(np.median(by_factor)) < 0.3 * float(np.median(np.abs(observed - usual)))


def _is_moved(values: Floats, expected: Floats, part: slice, season: int) -> bool:
    """Whether a part looks like what was expected some points before or after."""
    size, most = part.stop - part.start, max(season // 2, 6)
    observed = values[part]
    there = np.isfinite(observed)
    off = float(((observed - expected[part])[there] ** 2).sum())
    for apart in [each for each in range(-most, most + 1) if abs(each) >= 1]:
        low = part.start - apart
        if low < 0 or low + size > len(values):
            continue
        if float(((observed - expected[low : low + size])[there] ** 2).sum()) < 0.2 * off:
            return True
    return False


def _is_ramp(off: Floats) -> bool:
    """Whether what it is off by grows from nothing along a line, or falls back to it."""
    at = np.linspace(0, 1, len(off))
    slope, begins = np.polyfit(at, off, 1)
    ends = begins + slope
    left = off - begins - slope * at
    explained = 1 - float((left**2).sum()) / max(float(((off - off.mean()) ** 2).sum()), 1e-300)
    small, large = sorted((abs(begins), abs(ends)))
    return explained > 0.5 and small < 0.6 * large
