"""Forecasts that were made elsewhere."""

from proteron.core.judge.deceptions.case import Case, Deception


def unproven(case: Case) -> Deception | None:
    """They were brought as a table: whatever they knew, nobody here saw it."""
    if not case.elsewhere:
        return None
    return case.says(
        "unproven", "cutoff not proven", "It was made elsewhere: nothing proves that it knew nothing after the cutoff."
    )
