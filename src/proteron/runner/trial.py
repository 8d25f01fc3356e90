"""What the process for trying things does: fit a contender once, to see what that costs."""

from proteron.core.experiment import ContenderEntry
from proteron.core.judge.cost import Cost, cost_of_fit
from proteron.runner.child import here


def ready() -> bool:
    """Whatever trying needs is loaded with this module."""
    return True


def cost(entry: ContenderEntry, dataset_id: int, series: int, until: int) -> Cost:
    """What one fit of a contender takes on a series as it is known at `until`; nothing of it is kept."""
    with here().database.session() as session:
        panel = here().panels.get(session, dataset_id)
    return cost_of_fit(entry.contender, panel, series, panel.known(until))
