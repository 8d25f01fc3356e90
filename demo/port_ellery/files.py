"""Port Ellery as files: the hourly panel, calendars, pump events, the monthly export, the truth."""

import json
from pathlib import Path

import numpy as np

from port_ellery.town import DISTRICTS, HOLIDAYS, Town, make_town

CALENDAR = "port-ellery-holidays.csv"
HOURLY = "port-ellery-hourly.csv"
EVENTS = "port-ellery-pump-starts.jsonl"
PRODUCTION = "port-ellery-production.csv"
EXAMPLE = "port-ellery.toml"
WEEK, WEEK_LATER = "port-ellery-week-ahead.csv", "port-ellery-week-ahead-second.csv"
_WEEK_PLACES = (0, 2, 5)
_WEEK_FROM, _WEEK_HOURS, _WEEK_AHEAD = np.datetime64("2024-05-20T00", "h"), 91 * 24, 7 * 24
_PLANT = (2, np.datetime64("2024-08-22T06", "h"), 11.0)  # a bottling plant in Mill Lane opens, and takes so much


def write_demo(folder: Path, seed: int = 1871) -> list[Path]:
    """Write every demo file into `folder`; equal seeds give equal bytes."""
    folder.mkdir(parents=True, exist_ok=True)
    town = make_town(seed)
    rng = rng_of(seed, 2)
    contents = {
        HOURLY: hourly_csv(town),
        CALENDAR: _holidays(),
        EVENTS: _pump_starts(rng),
        PRODUCTION: _production(rng),
        WEEK: _week_ahead(town, rng_of(seed, 4), _WEEK_HOURS),
        WEEK_LATER: _week_ahead(town, rng_of(seed, 5), _WEEK_HOURS + _WEEK_AHEAD),
        "port-ellery-truth.json": _truth(town, seed),
        EXAMPLE: _EXAMPLE,
    }
    paths = []
    for name, text in contents.items():
        path = folder / name
        path.write_bytes(text.encode())
        paths.append(path)
    return paths


def hourly_csv(town: Town) -> str:
    """Long rows: time, district, inflow, temperature, rain; hours without a reading have no row."""
    stamps = [f"{time}:00Z" for time in town.times.astype(str)]
    weather = [f"{t:.1f},{r:.1f}" for t, r in zip(town.temperature.tolist(), town.rain.tolist(), strict=True)]
    lines = ["time,district,inflow_m3h,air_temp_c,rain_mm"]
    for place, row, end in zip(DISTRICTS, town.inflow.tolist(), town.ends, strict=True):
        lines += [
            f"{stamp},{place[0]},{value:.2f},{outside}"
            for stamp, value, outside in zip(stamps[:end], row[:end], weather[:end], strict=True)
            if value == value
        ]
    return "\n".join(lines) + "\n"


def _holidays() -> str:
    return "name,first,last\n" + "".join(f"{name},{first},{last}\n" for name, first, last in HOLIDAYS)


def rng_of(seed: int, part: int) -> np.random.Generator:
    """Chance for one part of the files, so that none depends on the others."""
    return np.random.default_rng([seed, part])


def _truth(town: Town, seed: int) -> str:
    place, since, extra = _PLANT
    opened = {"kind": "plant opens", "district": DISTRICTS[place][0], "start": f"{since}:00Z", "extra_m3_per_h": extra}
    told = {"seed": seed, "faults": town.truth, "second delivery": [opened]}
    return json.dumps(told, indent=1, ensure_ascii=False) + "\n"


def _week_ahead(town: Town, rng: np.random.Generator, hours: int) -> str:
    """Three districts of a summer, and the temperature, which goes on for a week as it is forecast: without inflow."""
    first = int((_WEEK_FROM - town.times[0]).astype(np.int64))
    at = slice(first, first + hours + _WEEK_AHEAD)
    off = np.zeros(hours + _WEEK_AHEAD)
    off[hours:] = np.cumsum(rng.normal(size=_WEEK_AHEAD)) * 0.04  # forecasts get worse
    outside = (town.temperature[at] + off).round(1).tolist()
    stamps = town.times[at].astype(str).tolist()
    plant, since, extra = _PLANT
    lines = ["time,district,inflow_m3h,air_temp_c"]
    for place in _WEEK_PLACES:
        inflow = town.inflow[place, at] + np.where((town.times[at] >= since) & (place == plant), extra, 0.0)
        cells = [f"{each:.2f}" if each == each and n < hours else "" for n, each in enumerate(inflow.tolist())]
        lines += [
            f"{stamp}:00Z,{DISTRICTS[place][0]},{cell},{degrees:.1f}"
            for stamp, cell, degrees in zip(stamps, cells, outside, strict=True)
        ]
    return "\n".join(lines) + "\n"


def _pump_starts(rng: np.random.Generator) -> str:
    """Raw events of three pumping stations over eight weeks, with repeats and impossible durations."""
    lines = []
    for station, per_hour in (("Quay Lift", 2.4), ("Mill Booster", 1.1), ("Salt Pans", 0.35)):
        at = np.datetime64("2024-10-28T00:00:00", "s")
        while at < np.datetime64("2024-12-23T00:00:00", "s"):
            at += np.timedelta64(int(rng.exponential(3600 / per_hour)) + 1, "s")
            minutes = round(float(rng.gamma(3.0, 2.5)), 1)
            if rng.random() < 0.004:
                minutes = -minutes
            event = {"started": str(at) + "Z", "station": station, "minutes": minutes}
            lines.append(json.dumps(event))
            if rng.random() < 0.006:
                lines.append(json.dumps(event))
    return "\n".join(lines) + "\n"


def _production(rng: np.random.Generator) -> str:
    """Monthly production over fourteen years as exported: title lines, brackets, blanks, a totals row."""
    months = np.datetime64("2011-01", "M") + np.arange(168)
    phase = np.arange(168) % 12
    values = 214_000 * (1 + 0.012 * np.arange(168) / 12) * (1 + 0.13 * np.cos(2 * np.pi * (phase - 7) / 12))
    values *= 1 + 0.018 * rng.normal(size=168)
    cells = [f"{value:,.0f}" for value in values]
    cells[31] = ""
    cells[77] = "n/a"
    cells[102] = f"({abs(values[102]) * 0.02:,.0f})"
    lines = ["Port Ellery Water Board;;", "Production, m3;;printed 2025-01-09", "month;production;note"]
    lines += [f"{month};{cell};" for month, cell in zip(months.astype(str), cells, strict=True)]
    lines.append(f"Total;{values.sum():,.0f};")
    return "\n".join(lines) + "\n"


_EXAMPLE = """\
# Port Ellery, hourly inflow: does anything beat the same hour last week?
schema_version = 1
name = "Port Ellery inflow"
seed = 20240312
metrics = ["mase", "rmse", "mae", "smape"]
baseline = "same hour last week"

[data]
file = "port-ellery-hourly.csv"
step = "1 hour"
zone = "Europe/Lisbon"
unit = "m³/h"

[data.roles]
time = "time"
district = "key"
inflow_m3h = "target"
air_temp_c = "observed"
rain_mm = "observed"

[folds]
kind = "expanding"
count = 8
horizon = 48
span = 168
every = 24
spacing = 672

[[contenders]]
name = "same hour last week"
forecaster = { kind = "seasonal_last_value", period = 168 }

[[contenders]]
name = "same hour yesterday"
forecaster = { kind = "seasonal_last_value", period = 24 }

[[contenders]]
name = "last value"
forecaster = { kind = "last_value" }

[[contenders]]
name = "drift"
forecaster = { kind = "drift" }

[[contenders]]
name = "mean so far"
forecaster = { kind = "mean" }

[[contenders]]
name = "Ridge on windows"
forecaster = { kind = "ridge", strength = 10.0 }
chain = [{ kind = "log" }, { kind = "period_means", period = "hour_of_week" }]

[[contenders]]
name = "Dense on windows"
forecaster = { kind = "dense_network" }
chain = [{ kind = "log" }, { kind = "linear_trend" }, { kind = "period_means", period = "hour_of_week" }]

[outlook]
horizon = 48

[anomalies]
using = "Ridge on windows"
per_week = 1.0
"""
