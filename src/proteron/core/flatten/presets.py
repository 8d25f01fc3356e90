"""Chains that fit a kind of series, and why."""

from dataclasses import dataclass

from proteron.core.flatten.linear_trend import LinearTrend
from proteron.core.flatten.loess_seasons import LoessSeasons
from proteron.core.flatten.log import Log
from proteron.core.flatten.occasion_effects import OccasionEffects
from proteron.core.flatten.period_means import PeriodMeans
from proteron.core.flatten.period_spread import PeriodSpread
from proteron.core.flatten.registry import AnyStage
from proteron.core.flatten.seasonal_difference import SeasonalDifference
from proteron.core.flatten.seasons import season_name
from proteron.core.flatten.stage import Calendar
from proteron.core.flatten.z_score import ZScore


@dataclass(frozen=True)
class Preset:
    """A chain to start from."""

    name: str
    why: str
    stages: tuple[AnyStage, ...]


def presets(calendar: Calendar, known: int) -> list[Preset]:
    """Chains that suit a step and `known` points: seasons that cannot be learned yet are left out."""
    seasons = [round(length) for length in calendar.axis.step.seasons if 2 * round(length) <= known]
    names = [season_name(period, calendar) for period in seasons]
    out: list[Preset] = []
    if seasons:
        loess = LoessSeasons(periods=tuple(seasons))
        said = " and ".join(names)
        count = {1: "one season", 2: "two seasons", 3: "three seasons"}[min(len(seasons), 3)]
        out += [
            Preset(
                f"trend + {count}, robust",
                f"A smooth trend and the figure of {said}, each taken from what the others leave; spikes have no say.",
                (loess,),
            ),
            Preset(
                f"log, trend + {count}, robust",
                "For positive values whose swing grows with the level: effects then multiply, and no range falls "
                "below zero.",
                (Log(), loess, ZScore()),
            ),
            Preset(
                "line and figure",
                f"A robust straight line and one median per phase of {names[0]}: few numbers, easy to read.",
                (LinearTrend(method="tukey"), PeriodMeans(period=seasons[0], statistic="median")),
            ),
            Preset(
                "difference at the season",
                f"Each value against the one a {names[0]} before: nothing is assumed about trend or figure.",
                (SeasonalDifference(period=seasons[0]), ZScore()),
            ),
            Preset(
                "even out the years",
                "Trend and seasons, then every year divided by its own spread: for a swing that changed over time.",
                (loess, PeriodSpread(period="year")),
            ),
        ]
        if calendar.occasions:
            out.insert(1, Preset(
                "occasions, trend and seasons", "Holidays and closures get effects of their own before the seasons.",
                (OccasionEffects(), loess),
            ))  # fmt: skip
    out.append(
        Preset(
            "line, robust",
            "A straight line that spikes cannot bend, and one scale; for series without a season.",
            (LinearTrend(method="tukey"), ZScore()),
        )
    )
    out.append(Preset("plain difference", "Each value against the one before; for wandering levels.",
                      (SeasonalDifference(period=1), ZScore())))  # fmt: skip
    return out
