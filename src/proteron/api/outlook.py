"""Outlook: the final forecast, made by the runner, read and taken away here."""

import numpy as np
from flask_openapi3 import APIBlueprint
from werkzeug.wrappers import Response

from proteron.api import outlook_shapes as given
from proteron.api import shapes
from proteron.api.lines import epochs
from proteron.api.projects import outlook_brief
from proteron.api.services import answer, series_index, services
from proteron.core.csv_tables import csv_bytes
from proteron.core.experiment import OutlookSettings
from proteron.core.forecasters.ranges import are_few
from proteron.core.timeline import to_utc
from proteron.services import outlooks

blueprint = APIBlueprint("outlook", __name__, url_prefix="/api/v1")


@blueprint.post("/experiments/<int:experiment_id>/outlooks", responses={201: given.OutlookView, 422: shapes.Problem})
def new_outlook(path: shapes.ExperimentPath, body: given.NewOutlook) -> Response:
    """Queue a refit of one contender on everything known; ranges come from its walk-forward errors, or from rehearsals
    where more steps are asked for than were judged."""
    record = outlooks.order(services(), path.experiment_id, OutlookSettings.parse(body.model_dump()))
    return answer(given.OutlookView(**outlook_brief(record).model_dump()), 201)


@blueprint.get("/outlooks/<int:outlook_id>", responses={200: given.OutlookView, 404: shapes.Problem})
def view_outlook(path: shapes.OutlookPath, query: given.OutlookQuery) -> Response:
    """One series of an outlook: mean, ranges, times."""
    record, made = outlooks.load(services(), path.outlook_id)
    view = given.OutlookView(**outlook_brief(record).model_dump())
    if made is not None:
        index = series_index(made.panel, query.series)
        view.origin, view.levels, view.how, view.notes = made.origin, made.levels, made.how, made.notes
        view.paths = made.paths
        view.times = epochs(made.panel.axis, made.origin + np.arange(made.horizon))
        view.mean = made.arrays["mean"][index].tolist()
        view.lower = [made.arrays[f"lower {level}"][index].tolist() for level in made.levels]
        view.upper = [made.arrays[f"upper {level}"][index].tolist() for level in made.levels]
        view.held = [made.held(level)[0] for level in made.levels]
        view.held_of = made.held(made.levels[0])[1] if made.levels else 0
        view.errors = made.errors(index)
        view.widened = view.errors > 0 and are_few(view.errors, made.levels)
        view.truth = made.truth(index).tolist()
    return answer(view)


@blueprint.get(
    "/outlooks/<int:outlook_id>/chance", responses={200: given.ChanceView, 404: shapes.Problem, 422: shapes.Problem}
)
def view_chance(path: shapes.OutlookPath, query: given.ChanceQuery) -> Response:
    """The chance that a series lies above a level, or below one, by its joint paths; and when it is highest."""
    made = outlooks.made(services(), path.outlook_id)
    index = series_index(made.panel, query.series)
    found, top = outlooks.chances(services(), made, index, query.above, query.below, query.run)
    rows = {name: getattr(found, name)[0].tolist() for name in ("each", "ever", "run")}
    return answer(given.ChanceView(**rows, paths=found.paths, peak=top.share[0].tolist()))


@blueprint.get("/outlooks/<int:outlook_id>/paths", responses={200: given.PathsView, 404: shapes.Problem})
def view_paths(path: shapes.OutlookPath, query: given.PathsQuery) -> Response:
    """Some of the joint paths of a series."""
    made = outlooks.made(services(), path.outlook_id)
    mine = outlooks.paths(services(), made, series_index(made.panel, query.series))[: query.count, 0]
    return answer(given.PathsView(paths=mine.tolist()))


@blueprint.post(
    "/outlooks/<int:outlook_id>/totals", responses={200: given.TotalsView, 404: shapes.Problem, 422: shapes.Problem}
)
def view_totals(path: shapes.OutlookPath, body: given.TotalsQuery) -> Response:
    """Sums and the like over days, months, all steps, and over groups of series, with ranges from joint paths."""
    made = outlooks.made(services(), path.outlook_id)
    series = None if body.series is None else series_index(made.panel, body.series)
    found = outlooks.totals_of(services(), made, body.by, body.how, body.groups, series)
    starts = to_utc(found.starts, made.panel.zone).astype("datetime64[s]").astype(np.int64)
    return answer(
        given.TotalsView(
            groups=list(found.groups), starts=starts.astype(float).tolist(), mean=found.mean.tolist(),
            levels=list(found.lower), lower=[each.tolist() for each in found.lower.values()],
            upper=[each.tolist() for each in found.upper.values()], forecast=found.forecast.tolist(),
            known=found.known.tolist(), whole=found.whole.tolist(),
        )
    )  # fmt: skip


@blueprint.get(
    "/outlooks/<int:outlook_id>/words", responses={200: given.OutlookWords, 404: shapes.Problem, 422: shapes.Problem}
)
def view_words(path: shapes.OutlookPath, query: given.WordsQuery) -> Response:
    """One step of a series in a sentence, and all of them in a paragraph."""
    made = outlooks.made(services(), path.outlook_id)
    index = series_index(made.panel, query.series)
    sentence, paragraph = outlooks.words(services(), made, index, query.unit, query.step, query.level, query.above)
    return answer(given.OutlookWords(sentence=sentence, paragraph=paragraph))


@blueprint.get("/outlooks/<int:outlook_id>/table.csv")
def outlook_csv(path: shapes.OutlookPath) -> Response:
    """All series of an outlook as CSV: time, key, mean and the ends of every range."""
    made = outlooks.made(services(), path.outlook_id)
    headers = {"Content-Disposition": 'attachment; filename="outlook.csv"'}
    content = csv_bytes(outlooks.table_of(made.panel, made.arrays))
    return Response(content, content_type="text/csv; charset=utf-8", headers=headers)
