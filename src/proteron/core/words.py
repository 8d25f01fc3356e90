"""Counts in plain language."""


def counted(count: int, one: str, many: str | None = None) -> str:
    """1 row, 2 rows; with `many` also words that follow it: 1 row lies, 2 rows lie."""
    return f"{count:,} {one if count == 1 else many or one + 's'}"
