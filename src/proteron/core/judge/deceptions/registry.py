"""Every way to deceive: one line here."""

from collections.abc import Callable, Iterable, Mapping

from proteron.core.judge.deceptions.case import Case, Deception
from proteron.core.judge.deceptions.echo import echo
from proteron.core.judge.deceptions.flat import flat_only, inside_only
from proteron.core.judge.deceptions.ranges import narrow_or_wide
from proteron.core.judge.deceptions.too_good import too_good
from proteron.core.judge.deceptions.uneven import fewer_points, most_series, one_fold
from proteron.core.judge.deceptions.unproven import unproven
from proteron.core.words import listed

DECEPTIONS: tuple[Callable[[Case], Deception | None], ...] = (
    unproven, echo, too_good, one_fold, most_series, fewer_points, flat_only, inside_only, narrow_or_wide,
)  # fmt: skip


def caution_of(skills: Mapping[str, float | None], deceptions: Iterable[Deception]) -> str:
    """What to mind about the entrant of the highest skill, in a sentence; empty where nothing deceives."""
    known = {name: skill for name, skill in skills.items() if skill is not None and skill > 0}
    if not known:
        return ""
    best = max(known, key=lambda name: known[name])
    titles = [each.title for each in deceptions if each.contender == best]
    return f"Mind of {best}: {listed(titles, len(titles))}." if titles else ""


def find_deceptions(cases: Iterable[Case]) -> list[Deception]:
    """All that apply, in the order of entrants."""
    return [found for case in cases for check in DECEPTIONS if (found := check(case)) is not None]
