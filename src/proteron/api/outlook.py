"""Outlook: the final forecast, made by the runner, read and taken away here."""

import numpy as np
from flask_openapi3 import APIBlueprint
from werkzeug.wrappers import Response

from proteron.api import outlook_shapes as given
from proteron.api import shapes
from proteron.api.lines import epochs
from proteron.api.projects import outlook_brief
from proteron.api.services import answer, series_index, services
from proteron.core.experiment import OutlookSettings
from proteron.core.forecasters.ranges import are_few
from proteron.core.outlook import Scenario
from proteron.core.timeline import to_utc
from proteron.records import outlooks as records
from proteron.services.outlooks import held_to, learned, orders, scenarios, shown

blueprint = APIBlueprint("outlook", __name__, url_prefix="/api/v1")
_OUTLOOK = "/outlooks/<int:outlook_id>"


@blueprint.post("/experiments/<int:experiment_id>/outlooks", responses={201: given.OutlookView, 422: shapes.Problem})
def new_outlook(path: shapes.ExperimentPath, body: given.NewOutlook) -> Response:
    """Queue a refit of one contender on everything known; ranges come from its walk-forward errors, or from rehearsals
    where more steps are asked for than were judged."""
    record = orders.order(services(), path.experiment_id, OutlookSettings.parse(body.model_dump()))
    return answer(given.OutlookView(**outlook_brief(record).model_dump()), 201)


@blueprint.get(_OUTLOOK, responses={200: given.OutlookView, 404: shapes.Problem})
def view_outlook(path: shapes.OutlookPath, query: given.OutlookQuery) -> Response:
    """One series of an outlook: mean, ranges, times."""
    return _view(path.outlook_id, query.series)


def _view(outlook_id: int, series: int, status: int = 200) -> Response:
    record, made = shown.load(services(), outlook_id)
    view = given.OutlookView(**outlook_brief(record).model_dump())
    if made is not None:
        index = series_index(made.panel, series)
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
        view.truth, view.seed, view.of = made.truth(index).tolist(), made.seed, record.of_id
        view.scenario = (record.document.get("scenario") or {}).get("name")
        view.newer = held_to.newer(services(), record.dataset_id)
    return answer(view, status)


@blueprint.get(f"{_OUTLOOK}/chance", responses={200: given.ChanceView, 404: shapes.Problem, 422: shapes.Problem})
def view_chance(path: shapes.OutlookPath, query: given.ChanceQuery) -> Response:
    """The chance that a series lies above a level, or below one, by its joint paths; and when it is highest."""
    made = shown.made(services(), path.outlook_id)
    index = series_index(made.panel, query.series)
    found, top = shown.chances(services(), made, index, query.above, query.below, query.run)
    rows = {name: getattr(found, name)[0].tolist() for name in ("each", "ever", "run")}
    return answer(given.ChanceView(**rows, paths=found.paths, peak=top.share[0].tolist()))


@blueprint.get(f"{_OUTLOOK}/paths", responses={200: given.PathsView, 404: shapes.Problem})
def view_paths(path: shapes.OutlookPath, query: given.PathsQuery) -> Response:
    """Some of the joint paths of a series."""
    made = shown.made(services(), path.outlook_id)
    mine = shown.paths(services(), made, series_index(made.panel, query.series))[: query.count, 0]
    return answer(given.PathsView(paths=mine.tolist()))


@blueprint.post(f"{_OUTLOOK}/totals", responses={200: given.TotalsView, 404: shapes.Problem, 422: shapes.Problem})
def view_totals(path: shapes.OutlookPath, body: given.TotalsQuery) -> Response:
    """Sums and the like over days, months, all steps, and over groups of series, with ranges from joint paths."""
    made = shown.made(services(), path.outlook_id)
    series = None if body.series is None else series_index(made.panel, body.series)
    found = shown.totals_of(services(), made, body.by, body.how, body.groups, series, body.joint)
    starts = to_utc(found.starts, made.panel.zone).astype("datetime64[s]").astype(np.int64)
    return answer(
        given.TotalsView(
            groups=list(found.groups), starts=starts.astype(float).tolist(), mean=found.mean.tolist(),
            levels=list(found.lower), lower=[each.tolist() for each in found.lower.values()],
            upper=[each.tolist() for each in found.upper.values()], forecast=found.forecast.tolist(),
            known=found.known.tolist(), whole=found.whole.tolist(),
        )
    )  # fmt: skip


@blueprint.get(f"{_OUTLOOK}/words", responses={200: given.OutlookWords, 404: shapes.Problem, 422: shapes.Problem})
def view_words(path: shapes.OutlookPath, query: given.WordsQuery) -> Response:
    """One step of a series in a sentence, and all of them in a paragraph."""
    made = shown.made(services(), path.outlook_id)
    index = series_index(made.panel, query.series)
    sentence, paragraph = shown.words(services(), made, index, query.unit, query.step, query.level, query.above)
    return answer(given.OutlookWords(sentence=sentence, paragraph=paragraph))


@blueprint.post(
    "/experiments/<int:experiment_id>/outlooks/lacks",
    responses={200: given.LacksView, 404: shapes.Problem, 422: shapes.Problem},
)
def view_lacks(path: shapes.ExperimentPath, body: given.NewOutlook) -> Response:
    """What such an outlook would lack of columns that are known ahead; nothing is made."""
    found = orders.lacks(services(), path.experiment_id, OutlookSettings.parse(body.model_dump()))
    rows = [
        given.LackView(column=e.column, steps=e.steps, needed=e.needed, last=e.last, series=len(e.series))
        for e in found
    ]
    return answer(given.LacksView(lacks=rows))


@blueprint.post(
    f"{_OUTLOOK}/refit",
    responses={201: given.OutlookView, 404: shapes.Problem, 409: shapes.Problem, 422: shapes.Problem},
)
def refit_outlook(path: shapes.OutlookPath, body: given.RefitBody) -> Response:
    """Queue an outlook as this one was asked for, as far ahead, on the newest version of its data, which the project
    then stands on."""
    record = orders.refit(services(), path.outlook_id)
    return answer(given.OutlookView(**outlook_brief(record).model_dump()), 201)


@blueprint.post(f"{_OUTLOOK}/stop", responses={200: given.OutlookView, 404: shapes.Problem})
def stop_outlook(path: shapes.OutlookPath) -> Response:
    """Stop an outlook that is being made; nothing of it is kept."""
    return answer(given.OutlookView(**outlook_brief(orders.stop(services(), path.outlook_id)).model_dump()))


@blueprint.post(f"{_OUTLOOK}/redraw", responses={200: given.OutlookView, 404: shapes.Problem, 409: shapes.Problem})
def redraw_outlook(path: shapes.OutlookPath, body: given.RedrawBody) -> Response:
    """Draw the paths anew by another seed; mean and ranges stay as they are."""
    orders.redraw(services(), path.outlook_id, body.seed)
    return _view(path.outlook_id, 0)


@blueprint.get(f"{_OUTLOOK}/parts", responses={200: given.PartsView, 404: shapes.Problem, 409: shapes.Problem})
def view_parts(path: shapes.OutlookPath, query: given.OutlookQuery) -> Response:
    """What the forecasts of a series are made of, as a sum that adds up to the mean."""
    index = series_index(shown.made(services(), path.outlook_id).panel, query.series)
    parts = learned.parts_of(services(), path.outlook_id, index)
    errors = [None if error is None else error.tolist() for _, error in parts.values()]
    return answer(
        given.PartsView(names=list(parts), parts=[each.tolist() for each, _ in parts.values()], errors=errors)
    )


@blueprint.get(f"{_OUTLOOK}/ahead", responses={200: given.AheadView, 404: shapes.Problem, 409: shapes.Problem})
def view_ahead(path: shapes.OutlookPath, query: given.OutlookQuery) -> Response:
    """Columns that are known ahead of a series: what was, what is given, and what a scenario makes of it."""
    made = shown.made(services(), path.outlook_id)
    found = scenarios.lanes(services(), path.outlook_id, series_index(made.panel, query.series))
    columns = []
    for each in found.columns:
        past = each.past[-5 * made.horizon :]
        places = made.origin - len(past) + np.arange(len(past) + made.horizon)
        columns.append(
            given.AheadColumn(
                name=each.name, read=each.read, labels=list(each.labels), times=epochs(made.panel.axis, places),
                past=past.tolist(), given=each.given.tolist(), filled=each.filled.tolist(),
                edited=each.edited.tolist(),
            )
        )  # fmt: skip
    return answer(given.AheadView(columns=columns, occasions=list(found.occasions)))


@blueprint.get(f"{_OUTLOOK}/scenarios", responses={200: given.ScenariosView, 404: shapes.Problem})
def list_scenarios(path: shapes.OutlookPath) -> Response:
    """The scenarios of an outlook, each an outlook of its own."""
    with services().database.session() as session:
        records.get_outlook(session, path.outlook_id)
        found = records.scenarios_of(session, path.outlook_id)
    views = [given.ScenarioView(id=e.id, scenario=Scenario.parse(e.document["scenario"])) for e in found]
    return answer(given.ScenariosView(scenarios=views))


@blueprint.post(
    f"{_OUTLOOK}/scenarios",
    responses={201: given.OutlookView, 404: shapes.Problem, 409: shapes.Problem, 422: shapes.Problem},
)
def keep_scenario(path: shapes.OutlookPath, body: Scenario) -> Response:
    """Forecast under a scenario and keep that by its name, in the place of one of the same name; nothing is learned."""
    return _view(scenarios.keep(services(), path.outlook_id, body).id, 0, 201)


@blueprint.delete(f"{_OUTLOOK}/scenario", responses={200: given.OutlookView, 404: shapes.Problem, 409: shapes.Problem})
def forget_scenario(path: shapes.OutlookPath) -> Response:
    """Remove a scenario, named by its own number."""
    return answer(given.OutlookView(**outlook_brief(scenarios.forget(services(), path.outlook_id)).model_dump()))
