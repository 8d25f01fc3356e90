"""Variants: one contender with ranges of its settings, each combination a contender of its own."""

from collections.abc import Mapping, Sequence
from itertools import product
from math import prod
from typing import Any

from proteron.core.errors import SettingsError
from proteron.core.forecasters import Contender

_MOST = 200


def vary(name: str, contender: Contender, values: Mapping[str, Sequence[Any]]) -> dict[str, Contender]:
    """Contenders by name for every combination of `values` (setting: what it takes), first setting outermost.

    Those that come to the same settings enter once. Raises `SettingsError` for a setting that is not there, a value it
    does not take, no value at all, or more than 200 combinations.
    """
    fields = type(contender.forecaster).model_fields
    for setting, taken in values.items():
        if setting == "kind" or setting not in fields:
            raise SettingsError(f"{contender.forecaster.title} has no setting “{setting}”.", field=setting)
        if not taken:
            raise SettingsError(f"“{setting}” is given no value to take.", field=setting)
    count = prod(len(taken) for taken in values.values())
    if count > _MOST:
        raise SettingsError(f"These are {count:,} variants; at most {_MOST} are entered at once.", field="values")
    plain, out, seen = contender.forecaster.document(), {}, set[str]()
    for combination in product(*values.values()):
        changed = dict(zip(values, combination, strict=True))
        variant = contender.model_copy(update={"forecaster": type(contender.forecaster).parse({**plain, **changed})})
        if variant.hash not in seen:
            seen.add(variant.hash)
            told = [_told(fields[setting].title or setting, value) for setting, value in changed.items()]
            out[", ".join([name, *told])] = variant
    return out


def _told(title: str, value: Any) -> str:
    """A setting's value as a name says it: “damped”, “not damped”, “period 24”."""
    word = title[:1].lower() + title[1:]
    if isinstance(value, bool):
        return word if value else f"not {word}"
    if value is None:
        return f"{word} chosen"
    if isinstance(value, (list, tuple)):
        return f"{word} {' '.join(map(str, value))}"
    return f"{word} {value:.12g}" if isinstance(value, float) else f"{word} {value}"
