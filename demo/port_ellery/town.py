"""The town: weather, holidays, eight metered districts, and the faults planted in them."""

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

HOURS = 730 * 24
START = np.datetime64("2023-01-01T00:00", "h")
# name, mean inflow in m³/h, share used by homes, how much heat adds, growth per year
DISTRICTS = (
    ("Harbour North", 42.0, 0.55, 0.20, 0.02),
    ("Old Quay", 31.0, 0.45, 0.10, 0.00),
    ("Mill Lane", 55.0, 0.80, 0.35, 0.03),
    ("St Brannoc", 24.0, 0.90, 0.45, 0.01),
    ("Gullstone", 18.0, 0.70, 0.30, -0.02),
    ("Upper Ellery", 63.0, 0.85, 0.40, 0.04),
    ("Saltmarsh", 12.5, 0.30, 0.05, 0.00),
    ("Ferry Road", 37.0, 0.60, 0.25, 0.01),
)
HOLIDAYS = (
    ("winter", "2022-12-21", "2023-01-04"), ("carnival", "2023-02-18", "2023-02-23"),
    ("spring", "2023-04-01", "2023-04-16"), ("summer", "2023-06-24", "2023-09-10"),
    ("winter", "2023-12-18", "2024-01-03"), ("carnival", "2024-02-10", "2024-02-15"),
    ("spring", "2024-03-23", "2024-04-07"), ("summer", "2024-06-22", "2024-09-08"),
    ("winter", "2024-12-18", "2025-01-03"),
)  # fmt: skip


@dataclass
class Town:
    """Hourly series (n_districts, HOURS), NaN where no reading arrived, and the truth about faults."""

    times: NDArray[np.datetime64]
    temperature: Floats
    rain: Floats
    inflow: Floats
    ends: list[int]
    truth: list[dict[str, object]] = field(default_factory=list)


def make_town(seed: int = 1871) -> Town:
    """Generate the town; the same seed gives the same numbers."""
    rng = np.random.default_rng(seed)
    times = START + np.arange(HOURS)
    hour = np.arange(HOURS) % 24
    day = np.arange(HOURS) // 24
    temperature = _temperature(rng, day, hour)
    rain = _rain(rng, day)
    weekday = (day + 6) % 7  # 1 January 2023 was a Sunday; Monday is 0
    free = _free_days(times)
    inflow = np.stack([_district(rng, place, hour, day, weekday, free, temperature, rain) for place in DISTRICTS])
    town = Town(times, np.round(temperature, 1), np.round(rain, 1), inflow, [HOURS] * len(DISTRICTS))
    _plant_faults(rng, town)
    town.inflow = np.round(np.maximum(town.inflow, 0.05), 2).astype(np.float64)
    return town


def _smooth_noise(rng: np.random.Generator, count: int, memory: float) -> Floats:
    """First-order autoregressive noise with unit spread."""
    shocks = rng.normal(size=count) * np.sqrt(1 - memory**2)
    out = np.empty(count)
    level = rng.normal()
    for i, shock in enumerate(shocks):
        level = memory * level + shock
        out[i] = level
    return out


def _temperature(rng: np.random.Generator, day: NDArray[np.int64], hour: NDArray[np.int64]) -> Floats:
    season = 15.5 - 6.5 * np.cos(2 * np.pi * (day - 25) / 365.25)
    daily = (2.5 + 1.2 * np.sin(2 * np.pi * (day - 90) / 365.25)) * np.sin(2 * np.pi * (hour - 9) / 24)
    return season + daily + 2.4 * _smooth_noise(rng, len(day), 0.985)


def _rain(rng: np.random.Generator, day: NDArray[np.int64]) -> Floats:
    wet = 1.15 + 0.45 * np.cos(2 * np.pi * (day - 15) / 365.25)
    front = _smooth_noise(rng, len(day), 0.94) * wet - 1.9
    return np.where(front > 0, front * 2.2 * rng.exponential(1.0, len(day)), 0.0)


def _free_days(times: NDArray[np.datetime64]) -> NDArray[np.bool_]:
    days = times.astype("datetime64[D]")
    free = np.zeros(len(days), dtype=bool)
    for _, first, last in HOLIDAYS:
        free |= (days >= np.datetime64(first)) & (days <= np.datetime64(last))
    return free


def _bump(hour: NDArray[np.int64], at: float, width: float) -> Floats:
    apart = (hour - at + 12) % 24 - 12
    return np.exp(-0.5 * (apart / width) ** 2)


def _district(
    rng: np.random.Generator,
    place: tuple[str, float, float, float, float],
    hour: NDArray[np.int64],
    day: NDArray[np.int64],
    weekday: NDArray[np.int64],
    free: NDArray[np.bool_],
    temperature: Floats,
    rain: Floats,
) -> Floats:
    """Homes with a morning and an evening peak, work in office hours, leakage, weather and noise."""
    _, mean, homes, heat, growth = place
    late = np.where((weekday >= 5) | free, 1.6, 0.0)
    morning = 1.35 * _bump(hour, 7.2, 1.5) * (late == 0) + 1.15 * _bump(hour, 8.9, 1.9) * (late > 0)
    home = 0.28 + morning + 0.95 * _bump(hour, 19.4, 2.4) + 0.42 * _bump(hour, 13.0, 2.6)
    work = 0.12 + np.where((weekday < 5) & ~free, 1.5, 0.35) * _bump(hour, 12.5, 4.0)
    pattern = homes * home + (1 - homes) * work
    pattern = 0.32 + 0.68 * pattern / pattern.mean()
    warm = np.maximum(temperature - 17.0, 0.0) / 10.0
    weather = 1 + heat * warm - 0.03 * np.minimum(rain, 3.0) * homes
    trend = 1 + growth * day / 365.25
    slow = 1 + 0.025 * _smooth_noise(rng, len(day), 0.995)
    quick = 1 + 0.035 * _smooth_noise(rng, len(day), 0.55)
    return mean * pattern * weather * trend * slow * quick


def _note(town: Town, kind: str, district: int, start: int, stop: int, **facts: object) -> None:
    town.truth.append(
        {
            "kind": kind,
            "district": DISTRICTS[district][0],
            "start": str(town.times[start]) + ":00Z",
            "stop": str(town.times[stop - 1]) + ":00Z",
            **facts,
        }
    )


def _plant_faults(rng: np.random.Generator, town: Town) -> None:
    """Bursts, stuck meters, spikes, gaps, a re-zoning and a discontinued district, all noted in the truth."""
    count = len(DISTRICTS)
    for number in range(14):
        district = int(rng.integers(count))
        start = int(rng.integers(2000, HOURS - 400))
        length = int(rng.integers(5, 60))
        extra = float(rng.uniform(0.35, 0.9)) * DISTRICTS[district][1]
        town.inflow[district, start : start + length] += extra * np.minimum(1.0, (1 + np.arange(length)) / 3)
        _note(town, "burst", district, start, start + length, extra_m3_per_h=round(extra, 2))
        if number % 2 == 0:
            at = int(rng.integers(2000, HOURS - 10))
            factor = float(rng.choice([2.2, 2.8, 0.1]))
            town.inflow[(district + 3) % count, at] *= factor
            _note(town, "spike", (district + 3) % count, at, at + 1, factor=factor)
    for district, start, length in ((1, 5210, 31), (4, 9402, 54), (6, 13110, 27), (2, 15230, 40)):
        town.inflow[district, start : start + length] = town.inflow[district, start]
        _note(town, "stuck meter", district, start, start + length)
    for district, start, length in ((0, 10446, 61), (3, 4102, 9), (5, 12001, 26), (7, 7777, 118), (2, 3300, 4)):
        town.inflow[district, start : start + length] = np.nan
        _note(town, "telemetry gap", district, start, start + length)
    moved = 11_690  # a quarter of Ferry Road is metered with Old Quay from here on
    share = 0.24 * town.inflow[7, moved:]
    town.inflow[7, moved:] -= share
    town.inflow[1, moved:] += np.nan_to_num(share)
    _note(town, "re-zoned", 7, moved, HOURS, joins="Old Quay", share=0.24)
    _note(town, "re-zoned", 1, moved, HOURS, takes_from="Ferry Road", share=0.24)
    town.ends[6] = 16_100
    _note(town, "discontinued", 6, 16_100, HOURS)
    town.truth.sort(key=lambda fault: (str(fault["start"]), str(fault["district"]), str(fault["kind"])))
