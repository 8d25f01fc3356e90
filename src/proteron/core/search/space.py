"""The space of a search: families × settings × chains, proposed from the panel and edited by hand."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Annotated, Any, Self

import numpy as np
from pydantic import BeforeValidator, Field, model_validator

from proteron.core.documents import Settings
from proteron.core.errors import SettingsError
from proteron.core.flatten import Chain, Log, SeasonalDifference
from proteron.core.forecasters import FORECASTERS, Contender
from proteron.core.forecasters.registry import AnyForecaster, reasons_against
from proteron.core.panel import Panel
from proteron.core.timeline import Moment
from proteron.core.windows import WindowPlan

Chosen = bool | int | float | str | None
_LOOKED_AT = 8  # series that must suit a family, evenly spread
_LONG_WINDOW = 400  # points of look-back that a proposed plan has at most


@dataclass(frozen=True)
class Choice:
    """What was chosen of a family: places of chain and plan, settings, and the point of the unit cube they lie at."""

    chain: int
    plan: int
    settings: Mapping[str, Any]
    point: tuple[float, ...]


class Range(Settings):
    """What may be chosen for one setting: numbers from `low` to `high`, or one of `choices`."""

    setting: str = Field(description="Its name.")
    low: float | None = None
    high: float | None = None
    log: bool = Field(False, description="Even on a logarithmic scale.")
    whole: bool = Field(False, description="Whole numbers only.")
    choices: tuple[Chosen | tuple[Chosen, ...], ...] = ()

    @model_validator(mode="after")
    def _consistent(self) -> Self:
        if self.choices:
            return self
        if self.low is None or self.high is None or not self.low <= self.high:
            raise ValueError(f"“{self.setting}” needs choices, or numbers from low to high")
        if self.log and self.low <= 0:
            raise ValueError(f"“{self.setting}” is above 0 where its scale is logarithmic")
        return self

    def at(self, share: float) -> Any:
        """What stands at a share from 0 to 1 of the range."""
        if self.choices:
            return self.choices[min(int(share * len(self.choices)), len(self.choices) - 1)]
        assert self.low is not None and self.high is not None
        low, high = (np.log(self.low), np.log(self.high)) if self.log else (self.low, self.high)
        value = float(low + share * (high - low))
        value = float(np.exp(value)) if self.log else value
        return round(value) if self.whole else float(f"{value:.3g}")


def _chain(given: Any) -> Any:
    return Chain.from_document(given) if isinstance(given, dict) and given else given


class Family(Settings):
    """A forecaster with the settings that may be varied, each behind any of some chains."""

    forecaster: AnyForecaster = Field(description="With settings that stay as they are.")
    ranges: tuple[Range, ...] = Field((), description="Settings that are varied.")
    chains: tuple[Annotated[Chain, BeforeValidator(_chain)], ...] = Field(
        (Chain(),), min_length=1, description="Chains that it is tried behind."
    )
    plans: tuple[WindowPlan | None, ...] = Field((None,), min_length=1, description="Empty: chosen by itself.")

    @property
    def title(self) -> str:
        """The forecaster in words."""
        return self.forecaster.title

    def contender(self, choice: "Choice") -> Contender:
        """With chain, plan and settings chosen; raises `SettingsError` where they do not fit."""
        plan = self.plans[choice.plan]
        given = {**self.forecaster.document(), **choice.settings}
        given |= {} if plan is None else {"plan": plan.document()}
        return Contender.parse({"forecaster": given, "chain": self.chains[choice.chain]})

    def drawn(self, number: int, seed: int) -> "Choice":
        """Quasi-random draw `number`, evenly spread over everything that may be chosen (Halton's sequence)."""
        from scipy.stats import qmc  # takes long to load, and few processes draw

        rng = np.random.default_rng(seed)
        point = qmc.Halton(len(self.ranges) + 2, scramble=True, rng=rng).random(number + 1)[-1]
        return self.at(tuple(point.tolist()))

    def beside(self, choice: "Choice", reach: float, rng: np.random.Generator) -> "Choice":
        """A choice whose point lies about `reach` from another one's, which may keep chain and plan or not."""
        moved = np.array(choice.point) + reach * rng.normal(size=len(choice.point))
        return self.at(tuple(np.clip(np.abs(1 - np.abs(1 - moved)), 0, 1 - 1e-9).tolist()))

    def at(self, point: tuple[float, ...]) -> "Choice":
        """What stands at a point of the unit cube: of every range, then of chains and plans."""
        settings = {each.setting: each.at(share) for each, share in zip(self.ranges, point, strict=False)}
        chain, plan = (
            min(int(share * len(each)), len(each) - 1)
            for share, each in zip(point[-2:], (self.chains, self.plans), strict=True)
        )
        return Choice(chain, plan, settings, point)

    def usual(self) -> "list[Choice]":
        """Settings as they begin with, behind every chain, and with every plan behind the first."""
        middle = (0.5,) * len(self.ranges)
        shares = [(chain, 0) for chain in range(len(self.chains))] + [(0, plan) for plan in range(1, len(self.plans))]
        return [
            Choice(chain, plan, {}, (*middle, (chain + 0.5) / len(self.chains), (plan + 0.5) / len(self.plans)))
            for chain, plan in shares
        ]

    @property
    def tunable(self) -> bool:
        """Whether there is anything to vary beyond chains and plans."""
        return bool(self.ranges)

    def named(self, choice: "Choice") -> str:
        """A choice in words: the forecaster, settings that are not as usual, plan and chain."""
        parts = [self.title]
        parts += [f"{name.replace('_', ' ')} {_said(value)}" for name, value in choice.settings.items()]
        plan = self.plans[choice.plan]
        if plan is not None:
            parts.append(f"lags {min(plan.lags)}–{max(plan.lags)}" if plan.lags else "its own plan")
        chain = self.chains[choice.chain]
        return ", ".join([*parts, *([chain.text] if chain.stages else [])])


class Space(Settings):
    """Families in the order in which they are tried: what is cheap and strong comes first."""

    families: tuple[Family, ...] = Field(min_length=1)

    @model_validator(mode="after")
    def _sound(self) -> Self:
        for family in self.families:
            for chain in range(len(family.chains)):
                for plan in range(len(family.plans)):
                    for share in (0.0, 1.0):
                        chosen = {each.setting: each.at(share) for each in family.ranges}
                        family.contender(Choice(chain, plan, chosen, ()))
        return self


_CLASSES = {each.model_fields["kind"].default: each for each in FORECASTERS}


def _tuned(kind: str) -> tuple[Range, ...]:
    """Ranges that a forecaster's own settings name for searches."""
    found = []
    for name, field in _CLASSES[kind].model_fields.items():
        extra = field.json_schema_extra
        if isinstance(extra, dict) and isinstance(extra.get("search"), dict):
            found.append(Range.model_validate({"setting": name, **extra["search"]}))  # type: ignore[dict-item]
    return tuple(found)


def proposed(panel: Panel, until: Moment | None = None) -> Space:
    """Families that suit a panel as it is known at `until`, with chains and plans by step, seasons and sign.

    Raises `SettingsError` where nothing suits.
    """
    known = panel.cut_at(until)
    places = np.unique(np.linspace(0, len(known) - 1, min(_LOOKED_AT, len(known))).round().astype(int)).tolist()
    against = [reasons_against(known, place) for place in places]
    values = known.values[np.isfinite(known.values)]
    positive = bool(len(values) and values.min() > 0)
    season = max(round(known.axis.step.season), 1)
    logs = [Chain(), Chain((Log(),))] if positive else [Chain()]
    flat = _flat_chains(season, positive)
    looks = sorted({min(max(each * season, 3), _LONG_WINDOW) for each in (1, 2)})
    plans = [None, *(WindowPlan(lags=list(range(1, each + 1))) for each in looks)]
    plain = [Chain()]
    wanted: list[tuple[str, Sequence[Chain], Sequence[WindowPlan | None]]] = [
        ("theta", plain, [None]), ("season_aligned_ridge", plain, [None]), ("ridge", flat, plans),
        ("smoothing", logs, [None]), ("intermittent", plain, [None]), ("arima", logs, [None]),
        ("boosted_trees", flat, plans), ("smoothing_average", plain, [None]), ("structural", logs, [None]),
        ("several_seasons", logs, [None]), ("additive", logs, [None]), ("elastic_net", flat, plans),
        ("vector_autoregression", flat[-1:], [None]), ("dense_network", flat, plans), ("basis_network", flat, plans),
        ("recurrent_network", flat, plans),
    ]  # fmt: skip
    families = [
        Family(forecaster=_CLASSES[kind](), chains=tuple(chains), plans=tuple(each), ranges=_tuned(kind))
        for kind, chains, each in wanted
        if not all(kind in reasons for reasons in against)
    ]
    if not families:
        raise SettingsError("Nothing suits this data: too few points are known.", field="families")
    return Space(families=tuple(families))


def _flat_chains(season: int, positive: bool) -> list[Chain]:
    """Chains for learners on windows: none, the season taken out, and that of logarithms."""
    taken = (SeasonalDifference(period=season),) if season > 1 else ()
    return [Chain(), *([Chain(taken)] if taken else []), *([Chain((Log(), *taken))] if positive else [])]


def _said(value: Any) -> str:
    return f"{value:g}" if isinstance(value, float) else str(value)
