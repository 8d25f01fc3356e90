"""What a regression reads, in a small notation: names, powers, products, categories against a reference.

    air_temp + air_temp^2 + rain * weekday + district against harbour + time

Terms stand between plus signs. `a * b` is the product alone; `a ** b` is the product and each of the two alone, that
is a + b + a * b, and `a ** b ** c` likewise everything up to the product of all three. A name with spaces stands in
“quotation marks”. `time` counts steps from the series' first point on; the calendar's fields are categories. A category
is coded against its first label, or against the one that is named.
"""

import re
from dataclasses import dataclass
from itertools import combinations
from typing import get_args

import numpy as np

from proteron.core.errors import SettingsError
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import CYCLES, CalendarField, calendar_codes

_FACTOR = re.compile(r"(?:“(?P<quoted>[^”]+)”|(?P<name>[^\s+*^“”]+))(?:\s*\^\s*(?P<power>\d+))?"
                     r"(?:\s+against\s+(?:“(?P<quoted_label>[^”]+)”|(?P<label>[^\s+*^“”]+)))?")  # fmt: skip
_MOST_CROSSED = 6
_FIELDS: tuple[str, ...] = get_args(CalendarField)


@dataclass(frozen=True)
class Factor:
    """A column, perhaps to a power, or one of its categories `against` the rest."""

    name: str
    power: int = 1
    against: str | None = None


Term = tuple[Factor, ...]


def read_terms(text: str) -> list[Term]:
    """Terms as products of factors; raises `SettingsError` that quotes what cannot be read."""
    terms: list[Term] = []
    for part in (each for written in text.split("+") for each in _with_main_effects(written)):
        factors = []
        for piece in part.split("*"):
            match = _FACTOR.fullmatch(piece.strip())
            if match is None:
                raise SettingsError(
                    f"“{piece.strip()}” is not a column, such as “rain”, “rain^2” or “district against harbour”.",
                    field="formula",
                )
            power = int(match["power"] or 1)
            if not 1 <= power <= 12:
                raise SettingsError(f"“{piece.strip()}”: powers go from 1 to 12.", field="formula")
            factors.append(
                Factor(match["quoted"] or match["name"], power, match["quoted_label"] or match["label"])
            )  # fmt: skip
        if tuple(factors) in terms:
            raise SettingsError(f"“{part.strip()}” stands twice.", field="formula")
        terms.append(tuple(factors))
    return terms


def _with_main_effects(part: str) -> list[str]:
    """`a ** b` as a, b and a * b; a product as itself."""
    pieces = [piece.strip() for piece in part.split("**")]
    sizes = range(1, len(pieces) + 1) if len(pieces) <= _MOST_CROSSED else ()
    if not sizes:
        raise SettingsError(f"“{part.strip()}” crosses more than {_MOST_CROSSED} columns.", field="formula")
    return [" * ".join(chosen) for size in sizes for chosen in combinations(pieces, size)]


def design(panel: Panel, index: int, terms: list[Term], first: int) -> tuple[Floats, tuple[str, ...]]:
    """Columns (n + ahead, k) from grid position `first` on, as far as all are known, and their names."""
    blocks: list[tuple[Floats, tuple[str, ...]]] = []
    for term in terms:
        block = np.ones((1, 1))
        names: tuple[str, ...] = ("",)
        for factor in term:
            columns, own = _factor_columns(panel, index, factor, first)
            length = max(len(block), 1) if len(block) == 1 else min(len(block), len(columns))
            left = np.broadcast_to(block, (len(columns), block.shape[1])) if len(block) == 1 else block[:length]
            columns = columns[: len(left)]
            block = (left[:, :, None] * columns[:, None, :]).reshape(len(columns), -1)
            names = tuple(f"{a} * {b}" if a else b for a in names for b in own)
        blocks.append((block, names))
    length = min(len(block) for block, _ in blocks)
    return np.column_stack([block[:length] for block, _ in blocks]), tuple(n for _, names in blocks for n in names)


def _factor_columns(panel: Panel, index: int, factor: Factor, first: int) -> tuple[Floats, tuple[str, ...]]:
    skipped = first - int(panel.starts[index])
    reach = max([len(panel.series(index)), *(len(c.series(index)) for c in panel.covariates if c.role != "static")])
    suffix = f"^{factor.power}" if factor.power > 1 else ""
    if factor.name == "time":
        return (np.arange(skipped, reach + 400.0)[:, None]) ** factor.power, (f"time{suffix}",)
    if factor.name in _FIELDS:
        positions = np.arange(first, first + reach - skipped + 400)
        codes = calendar_codes(factor.name, panel.axis.local(positions))  # type: ignore[arg-type]
        labels = tuple(str(code) for code in range(int(CYCLES[factor.name])))
        used = tuple(label for label in labels if (codes == int(label)).any())
        return _coded(np.array([used.index(str(c)) if str(c) in used else -1 for c in codes]), used, factor)
    covariate = panel.covariate(factor.name)
    values = covariate.series(index)
    if covariate.role == "static":
        values = np.full(reach, values[0] if len(values) else np.nan)
    values = values[skipped:]
    if covariate.labels:
        return _coded(np.where(np.isfinite(values), values, -1).astype(np.int64), covariate.labels, factor)
    if factor.against is not None:
        raise SettingsError(f"“{factor.name}” is a number; only categories are coded against one.", field="formula")
    return values[:, None] ** factor.power, (f"{factor.name}{suffix}",)


def _coded(codes: Floats, labels: tuple[str, ...], factor: Factor) -> tuple[Floats, tuple[str, ...]]:
    """A column per label but the reference; a missing category is missing in all."""
    if factor.power > 1:
        raise SettingsError(f"“{factor.name}” is a category; it has no powers.", field="formula")
    reference = factor.against if factor.against is not None else labels[0]
    if reference not in labels:
        known = ", ".join(labels[:12])
        raise SettingsError(f"“{factor.name}” has no “{reference}”; it has {known}.", field="formula")
    others = [place for place, label in enumerate(labels) if label != reference]
    columns = (np.asarray(codes)[:, None] == np.array(others)).astype(np.float64)
    columns[np.asarray(codes) < 0] = np.nan
    return columns, tuple(f"{factor.name} is {labels[place]}" for place in others)
