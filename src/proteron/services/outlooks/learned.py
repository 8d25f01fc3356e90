"""What outlooks learned, kept in memory once it was read: forecasts on demand, and scenarios."""

from collections.abc import Mapping

from proteron.core.experiment import OutlookSettings
from proteron.core.outlook import Ahead, Learned, Outlook, load_learned
from proteron.core.outlook.recent import Recent
from proteron.core.panel import Floats, Panel
from proteron.records import outlooks as records
from proteron.records.database import ConflictError
from proteron.records.experiments import get_experiment
from proteron.services.experiments import judging_of
from proteron.services.resources import Resources, Shelf

_KEPT = 6


def learned_bytes_of(reach: Resources, outlook_id: int) -> bytes:
    """The file of what an outlook learned, a scenario of it as well; raises `ConflictError` where there is none."""
    with reach.database.session() as session:
        state, base = records.state_of(session, outlook_id)
        content = records.learned_of(session, base)
    if content is None:
        late = state == "queued"
        said = "This outlook is not finished yet." if late else "It was made before that was kept: make it again."
        raise ConflictError(said, field="state")
    return content


def learned_of(reach: Resources, outlook_id: int) -> Learned:
    """What an outlook learned, ready to forecast; that of a scenario is what its outlook learned."""
    shelf: Shelf[int, Learned] = reach.open("learned", lambda: Shelf(_KEPT))
    with reach.database.look() as session:
        _, base = records.state_of(session, outlook_id)
    return shelf.get(base, lambda: load_learned(learned_bytes_of(reach, base)))


def seen_by(reach: Resources, outlook_id: int) -> tuple[Panel, OutlookSettings]:
    """What an outlook was made from, as it was known, and how it was asked for, its seed told."""
    with reach.database.session() as session:
        record = records.get_outlook(session, outlook_id)
        experiment = get_experiment(session, record.experiment_id)
    asked, judging = OutlookSettings.parse(record.document), judging_of(experiment)
    asked = asked.model_copy(update={"seed": judging.seed if asked.seed is None else asked.seed})
    return reach.panel(record.dataset_id).cut_at(asked.until), asked


def on_demand(
    reach: Resources, outlook_id: int, recent: Mapping[str, Recent], horizon: int | None, ahead: Ahead
) -> Outlook:
    """What comes after recent points, by what an outlook learned: nothing is stored, learned or drawn.

    Raises `InputError` for points that do not fit, `SettingsError` beyond the horizon that was learned for.
    """
    learned = learned_of(reach, outlook_id)
    with reach.computing():
        return learned.after(recent, horizon, ahead)


def drawn_as(reach: Resources, outlook_id: int, asked: OutlookSettings, panel: Panel) -> Outlook:
    """An outlook of a panel by what it learned, as it is asked for; nothing is stored."""
    learned = learned_of(reach, outlook_id)
    with reach.computing():
        return learned.outlook(
            panel, asked.steps(panel), asked.seed or 0, asked.ahead, paths=asked.paths, joint=asked.joint,
            scenario=asked.scenario,
        )  # fmt: skip


def parts_of(reach: Resources, outlook_id: int, series: int) -> dict[str, tuple[Floats, Floats | None]]:
    """What the forecasts of one series are made of, by name, (horizon,) each, with standard errors where known."""
    panel, asked = seen_by(reach, outlook_id)
    one = panel.select([series])
    made = drawn_as(reach, outlook_id, asked.model_copy(update={"paths": 0}), one)
    errors = made.part_errors
    return {name: (values[0], errors[name][0] if name in errors else None) for name, values in made.parts.items()}
