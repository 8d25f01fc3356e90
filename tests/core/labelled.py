"""Made-up series of many laws with planted faults that are known, and how well flags find them."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np
from relative_error import public_series

from proteron.core.panel import Floats

Rng = np.random.Generator
Span = tuple[int, int, str]
Found = Callable[[Floats, tuple[int, ...]], Sequence[Span]]
SEASONS = {"hour": (24, 168), "day": (7, 365), "week": (52,), "month": (12,), "quarter": (4,), "year": ()}
FIRST = ("spike", "level shift", "zeros", "flat-line", "burst", "slip", "gap")
SECOND = ("spike", "level shift", "burst", "clipping", "unit change", "drift", "shifted clock")
LAWS = ("hourly", "daily", "monthly", "walk", "counts", "night")
_LENGTHS = {
    "spike": (1, 3), "level shift": (8, 40), "zeros": (1, 8), "flat-line": (6, 30), "burst": (5, 20), "slip": (10, 40),
    "shifted clock": (10, 40), "gap": (1, 12), "clipping": (20, 80), "unit change": (6, 40), "drift": (20, 60),
}  # fmt: skip
_FACTORS = (0.1, 10.0, 0.5, 2.0, 1 / 3.6, 3.6)


@dataclass(frozen=True)
class Labelled:
    """A series with its seasons in points, and the faults that were planted: start, stop, kind."""

    name: str
    seasons: tuple[int, ...]
    values: Floats
    faults: tuple[Span, ...]


def autoregressive(rng: Rng, points: int, weight: float, heavy: bool = False) -> Floats:
    shocks = rng.standard_t(4, points) / np.sqrt(2) if heavy else rng.normal(size=points)
    out = np.zeros(points)
    for at in range(1, points):
        out[at] = weight * out[at - 1] + shocks[at]
    return out


def series_by(law: str, rng: Rng) -> tuple[Floats, tuple[int, ...]]:
    """A series without faults."""
    low, high = {"hourly": (900, 2500), "daily": (400, 1300), "monthly": (100, 300)}.get(law, (500, 1800))
    points = int(rng.integers(low, high))
    at, heavy = np.arange(points), bool(rng.random() < 0.5)
    if law == "hourly":
        profile = rng.normal(size=24).cumsum()
        profile = (profile - profile.mean()) / profile.std()
        week = np.repeat(rng.normal(0, 0.5, 7), 24)[at % 168]
        noise = autoregressive(rng, points, rng.uniform(0.3, 0.9), heavy) * rng.uniform(0.3, 1)
        level = 60 + 0.3 * autoregressive(rng, points, 0.999)
        values = level + 8 * profile[at % 24] * (1 + 0.2 * week) + 4 * week + noise * (1 + 0.5 * (profile > 0))[at % 24]
        return np.round(50 * np.exp((values - 60) / 25) if rng.random() < 0.4 else values, 3), SEASONS["hour"]
    if law == "daily":
        yearly = 0.02 * at + 10 * np.sin(2 * np.pi * at / 365) + 15 * rng.normal(size=7)[at % 7]
        values = yearly + autoregressive(rng, points, rng.uniform(0.2, 0.8), heavy) * rng.uniform(2, 6)
        return np.round(100 * np.exp(values / 80) if rng.random() < 0.5 else 200 + values, 2), SEASONS["day"]
    if law == "monthly":
        values = 0.3 * at + 12 * rng.normal(size=12)[at % 12]
        values = values + autoregressive(rng, points, rng.uniform(0.2, 0.8)) * rng.uniform(2, 5)
        return np.round(100 * np.exp(values / 70) if rng.random() < 0.5 else 100 + values, 1), SEASONS["month"]
    if law == "walk":
        return np.round(1000 + np.cumsum(rng.standard_t(5, points)) * rng.uniform(1, 4), 2), SEASONS["day"]
    if law == "counts":
        rate = np.exp(2 + 0.8 * np.sin(2 * np.pi * at / 24) + 0.2 * np.sin(2 * np.pi * at / 168))
        return rng.poisson(rate) + 3.0, SEASONS["hour"]
    light = np.maximum(np.sin(2 * np.pi * (at % 24 - 6) / 24), 0)
    cloud = np.repeat(np.clip(rng.normal(0.8, 0.2, points // 24 + 1), 0.1, 1.2), 24)[:points]
    return np.round(500 * light * cloud + rng.normal(0, 10, points), 1) * (light > 0), SEASONS["hour"]


def _spoiled(kind: str, clean: Floats, start: int, stop: int, size: float, season: int, rng: Rng) -> Floats | None:
    """The stretch with the fault; None where it would not be one."""
    part, points = clean[start:stop], stop - start
    late = int(rng.integers(2, max(season // 2, 4)))
    if kind == "zeros":
        return np.zeros(points) if np.abs(part).min() > abs(size) / 3 else None
    if kind == "flat-line":
        return np.full(points, part[0]) if np.ptp(part) > 0 else None
    if kind in ("slip", "shifted clock"):
        late += points if kind == "slip" and rng.random() < 0.7 else 0
        if start < late or np.array_equal(part, clean[start - late : stop - late]):
            return None
        return clean[start - late : stop - late] + (rng.normal(0, abs(size) / 40, points) if kind != "slip" else 0.0)
    if kind == "clipping":
        top = np.quantile(part, 0.6)
        return np.minimum(part, top) if (part > top + abs(size) / 8).sum() > 1 else None
    return {
        "spike": part + size * rng.uniform(0.8, 1.2, points), "level shift": part + 0.8 * size,
        "burst": part + rng.normal(0, 0.7 * abs(size), points), "gap": np.full(points, np.nan),
        "unit change": part * rng.choice(_FACTORS), "drift": part + 1.5 * size * np.linspace(0, 1, points),
    }[kind]  # fmt: skip


def plant(clean: Floats, seasons: tuple[int, ...], kinds: Sequence[str], rng: Rng) -> tuple[Floats, tuple[Span, ...]]:
    """About one fault per 110 points, apart from each other; one series of seven stays as it is."""
    season, values, faults = next(iter(seasons), 1), clean.copy(), list[Span]()
    lag = season if len(clean) > 3 * season else 1
    change = np.abs(clean[lag:] - clean[:-lag])
    unit = 1.4826 * float(np.median(change[change > 0])) / np.sqrt(2)
    used = np.zeros(len(clean), dtype=bool)
    for _ in range(0 if rng.random() < 1 / 7 else max(2, min(9, len(clean) // 110))):
        kind = kinds[rng.integers(len(kinds))]
        points = int(rng.integers(*_LENGTHS[kind]))
        points = min(points, len(clean) // 12) if points > 2 else points
        starts = rng.integers(max(20, season // 2), len(clean) - points - 5, 50)
        start = next((int(at) for at in starts if not used[max(at - 8, 0) : at + points + 8].any()), None)
        if start is None:
            continue
        stop, size = start + points, rng.uniform(4, 12) * rng.choice([-1, 1]) * unit
        spoiled = _spoiled(kind, clean, start, stop, size, season, rng)
        if spoiled is not None:
            values[start:stop], used[start:stop] = spoiled, True
            faults.append((start, stop, kind))
    return values, tuple(faults)


def bank(kinds: Sequence[str], count: int = 60, seed: int = 1, public: bool = True) -> list[Labelled]:
    """Made-up series, and the longer published ones, with faults."""
    out = []
    for number in range(count):
        rng = np.random.default_rng([seed, number])
        law = LAWS[number % len(LAWS)]
        clean, seasons = series_by(law, rng)
        out.append(Labelled(f"{law} {number}", seasons, *plant(clean, seasons, kinds, rng)))
    for number, (name, step, values) in enumerate(public_series() if public else []):
        if len(values) >= 80 and step in SEASONS:
            seasons = SEASONS[step]
            rng = np.random.default_rng([seed, 999, number])
            out.append(Labelled(name, seasons, *plant(np.asarray(values, dtype=float), seasons, kinds, rng)))
    return out


@dataclass
class Tally:
    """Flags against faults, gaps left out: a fault is found if a flag touches it, a flag right if it touches one."""

    faults: int = 0
    found: int = 0
    named: int = 0
    right: int = 0
    wrong: int = 0
    points: int = 0
    hit: int = 0
    false: int = 0
    missed: int = 0
    by_kind: dict[str, list[int]] = field(default_factory=dict)

    def add(self, one: Labelled, flags: Sequence[Span]) -> None:
        faults = [each for each in one.faults if each[2] != "gap"]
        gaps = [each for each in one.faults if each[2] == "gap"]
        flags = [each for each in flags if not any(touch(each, gap) for gap in gaps)]
        for fault in faults:
            mine = [each for each in flags if touch(each, fault)]
            counts = self.by_kind.setdefault(fault[2], [0, 0, 0])
            named = any(each[2] == fault[2].replace("shifted clock", "slip") for each in mine)
            for place, one_more in enumerate((1, bool(mine), named)):
                counts[place] += one_more
            self.faults, self.found, self.named = self.faults + 1, self.found + bool(mine), self.named + named
        for flag in flags:
            touches = any(touch(flag, fault) for fault in faults)
            self.right, self.wrong = self.right + touches, self.wrong + (not touches)
        at, marked = np.zeros(len(one.values), dtype=bool), np.zeros(len(one.values), dtype=bool)
        for start, stop, _ in faults:
            at[start:stop] = True
        for start, stop, _ in flags:
            marked[start:stop] = True
        near, around = (np.convolve(each, [1, 1, 1], "same") > 0 for each in (at, marked))
        self.hit += int((marked & near).sum())
        self.false += int((marked & ~near).sum())
        self.missed += int((at & ~around).sum())
        self.points += len(one.values)

    @property
    def event_f1(self) -> float:
        """Harmonic mean of precision and recall over events."""
        precision, recall = self.right / max(self.right + self.wrong, 1), self.found / max(self.faults, 1)
        return 2 * precision * recall / max(precision + recall, 1e-9)

    @property
    def point_f1(self) -> float:
        """The same over points, one point off counting as right."""
        return 2 * self.hit / max(2 * self.hit + self.false + self.missed, 1)

    @property
    def false_per_thousand(self) -> float:
        """Flags that touch no fault."""
        return 1000 * self.wrong / max(self.points, 1)


def touch(one: Span, other: Span) -> bool:
    """Whether two spans overlap, give or take a point."""
    return one[0] <= other[1] and other[0] <= one[1]


def tally(series: Sequence[Labelled], find: Found) -> Tally:
    """How well a detector does over labelled series."""
    out = Tally()
    for one in series:
        out.add(one, find(one.values, one.seasons))
    return out
