"""What the evidence comes to, in sentences that a colleague can be shown."""

from collections.abc import Sequence

from proteron.core.judge.evidence.intervals import Interval
from proteron.core.words import listed

_NAMED = 3


def signed(value: float) -> str:
    """Two decimals with their sign, as on the board: +0.31, −0.05, 0.00."""
    text = f"{abs(value):.2f}"
    return text if float(text) == 0 else f"{'+' if value > 0 else '−'}{text}"


def verdict_of(
    skills: dict[str, tuple[float, Interval | None]], baseline: str, among_best: Sequence[str] | None
) -> str:
    """Which entrant is best, whether it beats the baseline, and which others cannot be told apart from the best.

    `skills` of all but the baseline; `among_best` None where nothing can be said.
    """
    if not skills:
        return "No verdict yet."
    best, (skill, interval) = max(skills.items(), key=lambda each: each[1][0])
    if skill <= 0:
        return f"Nothing beats {baseline}."
    range_ = "" if interval is None else f", 95 % interval {signed(interval.low)} … {signed(interval.high)}"
    sure = interval is not None and interval.low > 0
    first = f"{best} is best, skill {signed(skill)}{range_}: "
    if not sure:
        first += f"not clearly different from {baseline}."
    elif among_best is not None and baseline in among_best and len(skills) > 1:
        first += f"it beats {baseline} taken by itself, which as the best of {len(skills)} it may owe to luck."
    else:
        first += f"it beats {baseline}."
    if among_best is None or len(skills) < 2:
        return first
    others = [name for name in among_best if name not in (best, baseline)]
    if best not in among_best:
        return first
    if not others:
        return f"{first} No other comes near it." if baseline not in among_best else first
    return f"{first} {listed(others, _NAMED)} cannot be told apart from it."
