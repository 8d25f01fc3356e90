"""Counts in plain language."""

from collections.abc import Sequence


def counted(count: int, one: str, many: str | None = None) -> str:
    """1 row, 2 rows; with `many` also words that follow it: 1 row lies, 2 rows lie."""
    return f"{count:,} {one if count == 1 else many or one + 's'}"


def listed(names: Sequence[str], most: int) -> str:
    """a; a and b; a, b and c; of more than `most` only how many more there are: a, b and 3 others."""
    shown = list(names[:most])
    if len(names) > most:
        shown = [*shown[: most - 1], f"{len(names) - most + 1} others"]
    return shown[0] if len(shown) == 1 else f"{', '.join(shown[:-1])} and {shown[-1]}"
