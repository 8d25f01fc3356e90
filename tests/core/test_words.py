"""Counts in plain language."""

from proteron.core.words import counted


def test_one_is_singular_and_everything_else_plural() -> None:
    assert [counted(n, "row") for n in (0, 1, 2, 1234)] == ["0 rows", "1 row", "2 rows", "1,234 rows"]
    assert [counted(n, "series lies", "series lie") for n in (1, 2)] == ["1 series lies", "2 series lie"]
