"""Anomalies without HTTP: a scan by the runner's own steps, budgets, verdicts, drills, and what is made of flags."""

import io
import json
from dataclasses import replace
from types import SimpleNamespace

import numpy as np
import pyarrow.csv as pa_csv
import pytest
from sqlalchemy import select

import proteron as pt
from proteron.core.anomalies import Budget
from proteron.core.anomalies.triage import Precision, alike, labelled_curve, threshold_for, together, wilson
from proteron.core.csv_tables import csv_bytes
from proteron.core.experiment import Judging
from proteron.core.intake import TableReading
from proteron.core.judge import compute_cell
from proteron.core.panel import NOT_LEARNED, Occasion, Panel
from proteron.core.table_files import written
from proteron.records import experiments as experiment_records
from proteron.records import findings, kept, projects
from proteron.records import scans as records
from proteron.records.configuration import Configuration
from proteron.records.copies import copy_kept
from proteron.records.database import ConflictError, NotFoundError
from proteron.records.datasets import PanelCache, get_dataset, save_dataset
from proteron.records.models import Experiment, FlagRow
from proteron.records.results import save_result
from proteron.runner.queue import jobs_of
from proteron.runner.work.scans import DrillWork, ScanWork
from proteron.services import experiments
from proteron.services.anomalies import scans, uses, verdicts
from proteron.services.anomalies.scans import ScanSettings
from proteron.services.anomalies.shown import drill_of, show
from proteron.services.resources import Resources

POINTS = 1100


def town() -> Panel:
    """Three hourly series with a day: a spike at one, a fault at two at once, a stuck value, and a festival."""
    rng = np.random.default_rng(3)
    hours = np.arange(POINTS)
    series = {key: 50 + 9 * np.sin(hours * np.pi / 12) + rng.normal(size=POINTS) for key in ("north", "east", "west")}
    series["north"][[600, 648, 900]] += 25
    series["east"][700:712] += 14
    series["west"][700:712] += 14
    series["west"][1000:1020] = series["west"][1000]
    for each in series.values():
        each[800:812] += 30
    panel = Panel.from_arrays(series, "2024-01-01", "1 hour", unit="m³/h")
    return replace(panel, occasions=(Occasion("Harbour festival", 800, 812),))


@pytest.fixture(scope="module")
def reach(database_url: str, tmp_path_factory: pytest.TempPathFactory) -> Resources:
    return Resources(Configuration(home=tmp_path_factory.mktemp("home")), database_url)


@pytest.fixture(scope="module")
def here(reach: Resources) -> SimpleNamespace:
    """What a pool process keeps."""
    return SimpleNamespace(database=reach.database, panels=PanelCache(2))


def new_project(reach: Resources, name: str, panel: Panel) -> tuple[int, int]:
    with reach.database.session() as session:
        projects.delete_project(session, name)
        project = projects.create_project(session, name).id
        return project, save_dataset(session, project, "d", TableReading(panel, (), {})).id


def compute(here: SimpleNamespace, scan_id: int) -> list[str]:
    """What the jobs of a scan would do."""
    with here.database.session() as session:
        missing = records.missing_series(session, records.get_scan(session, scan_id))
    return [ScanWork().run(here, [each], {"scan_id": scan_id}) for each in missing]


def state_of(reach: Resources, scan_id: int) -> str:
    with reach.database.session() as session:
        return records.get_scan(session, scan_id).state


@pytest.fixture
def scan(reach: Resources, here: SimpleNamespace, request: pytest.FixtureRequest) -> int:
    """A scan as of every moment that is done."""
    number = scans.start_scan(reach, *new_project(reach, request.node.name, town()), ScanSettings())
    assert compute(here, number) == ["done"] * 3
    return number


def told(flags: object) -> list[tuple[object, ...]]:
    return [(f.key, f.start, f.stop, f.kind, f.score, f.raised_at, f.occasion) for f in flags]  # type: ignore[attr-defined]


def span(flag: pt.Flag) -> tuple[str, int, int]:
    return flag.key, flag.start, flag.stop  # all series begin together


@pytest.mark.parametrize("mode", ["as_of", "looking_back"])
def test_a_scan_finds_what_the_library_finds(reach: Resources, here: SimpleNamespace, mode: str) -> None:
    until = 1050 if mode == "looking_back" else None
    project, dataset = new_project(reach, f"twin {mode}", town())
    number = scans.start_scan(reach, project, dataset, ScanSettings(mode=mode, until=until))
    assert state_of(reach, number) == "running"
    with reach.database.session() as session:
        assert number in jobs_of(session, ScanWork.task, "scan_id")
        assert projects.get_project(session, project).choices["scan_id"] == number
    compute(here, number)
    assert state_of(reach, number) == "done"
    for budget in (Budget(), Budget(per_thousand=2), Budget(per_week=0.4, over="series"), Budget(threshold=9.0)):
        verdicts.set_budget(reach, number, budget)
        found = pt.find_anomalies(town(), mode, until=until, **vars(budget))  # type: ignore[arg-type]
        shown = show(reach, number)
        assert told(shown.flags) == told(found) and told(shown.explained) == told(found.explained)
        assert dict(shown.raised.thresholds) == dict(found.thresholds)
    assert {flag.occasion for flag in found.explained} == {"Harbour festival"}
    assert show(reach, number, 900).beyond == (mode == "looking_back")
    assert not show(reach, number, POINTS).beyond
    assert compute(here, number) == [] and ScanWork().run(here, [0], {"scan_id": number}) == "stopped"


def test_as_of_a_moment_only_what_was_raised_by_then_is_shown(reach: Resources, scan: int) -> None:
    whole = show(reach, scan).flags
    for until in (602, 603, 705, 710, 1007, POINTS):
        early = show(reach, scan, until).flags
        assert [span(f)[:2] for f in early] == [span(f)[:2] for f in whole if f.raised_at < until]
        assert all(flag.stop <= until for flag in early)
        assert {f.kind for f in early if f.stop == until < POINTS} <= {"open"}
        assert [f.kind for f in early if f.stop < until] == [
            f.kind for f in whole if f.stop < until and f.raised_at < until
        ]


def test_what_is_said_stays_with_the_span_and_is_taken_back(reach: Resources, here: SimpleNamespace, scan: int) -> None:
    first, second, *_ = flags = show(reach, scan).flags
    verdicts.judge(reach, scan, [span(first)], "right", "pump trip", "seen on site", "Ana")
    verdicts.judge(reach, scan, [span(second)], "wrong", None, "", "Rui")
    verdicts.judge(reach, scan, [("north", 40, 52)], "right", "leak", "", "")
    shown = show(reach, scan)
    assert [(s.verdict, s.kind, s.note, s.by) if s else None for s in shown.said[:3]] == [
        ("right", "pump trip", "seen on site", "Ana"), ("wrong", None, "", "Rui"), None,
    ]  # fmt: skip
    assert (shown.precision.right, shown.precision.judged) == (1, 2)
    assert [(each.key, each.start, each.stop) for each in shown.loose] == [("north", 40, 52)], "nobody flagged it"
    curve = shown.labelled
    assert [(p.precision.right, p.precision.judged, p.caught, p.labelled) for p in curve][-1] == (1, 2, 1, 2)
    with reach.database.session() as session:
        rows = session.scalars(select(FlagRow).where(FlagRow.scan_id == scan).order_by(FlagRow.number)).all()
        assert [(r.series, r.verdict, r.kind) for r in rows][:2] == [
            (first.key, "right", "pump trip"), (second.key, "wrong", second.kind),
        ]  # fmt: skip
        assert len(rows) == len(flags) and rows[0].sentence == first.sentence
        assert rows[0].time == np.datetime64(first.time).astype(object).replace(tzinfo=rows[0].time.tzinfo)
    verdicts.judge(reach, scan, [span(first)], "open", None, "", "Ana")
    assert show(reach, scan).precision == Precision(0, 1), "the last word counts"
    for left in (Precision(1, 2), Precision(1, 2), Precision(1, 1)):  # taken back: open, the leak, wrong
        verdicts.undo(reach, scan)
        assert show(reach, scan).precision == left
    assert show(reach, scan).loose == []
    with reach.database.session() as session:
        assert [
            each.document["verdict"] for each in findings.verdicts_of(session, records.get_scan(session, scan))
        ] == ["right"]
        dataset, project = records.get_scan(session, scan).dataset_id, records.get_scan(session, scan).project_id
    again = scans.start_scan(reach, project, dataset, ScanSettings(using="extreme_values"))
    compute(here, again)
    of = dict(zip(map(span, show(reach, again).flags), show(reach, again).said, strict=True))
    assert of[span(first)] is not None, "another scan of the same data knows what was said"
    verdicts.undo(reach, scan)
    with pytest.raises(NotFoundError, match="no verdict"):
        verdicts.undo(reach, scan)
    for wrong in (("south", 0, 1), ("north", -1, 3), ("north", 5, 5), ("north", 5, POINTS + 1)):
        with pytest.raises(pt.SettingsError):
            verdicts.judge(reach, scan, [wrong], "right", None, "", "")


def test_a_span_reaches_as_far_as_somebody_says(reach: Resources, scan: int) -> None:
    before = show(reach, scan).flags
    stuck = next(flag for flag in before if flag.kind == "flat-line")
    key, start, stop = span(stuck)

    def now(until: int | None = None) -> list[tuple[str, int, int]]:
        return [span(flag) for flag in show(reach, scan, until).flags if flag.key == key and flag.stop > start - 9]

    verdicts.judge(reach, scan, [(key, start - 4, stop + 2)], "right", None, "", "", adjusted=True)
    assert now() == [(key, start - 4, stop + 2)] and now(start + 9) == [(key, start - 4, start + 9)]
    [flag] = [flag for flag in show(reach, scan).flags if flag.start == start - 4]
    assert flag.time == str(town().axis.times(np.array([start - 4]))[0]) and flag.raised_at == stuck.raised_at
    verdicts.judge(reach, scan, [(key, start - 4, stop + 2)], "wrong", None, "", "")
    assert now() == [(key, start - 4, stop + 2)], "another verdict takes no span back"
    verdicts.judge(reach, scan, [(key, start, stop)], "right", None, "", "", adjusted=True)
    shown = show(reach, scan)
    assert now() == [(key, start, stop)] and shown.loose == [], "what is overtaken is no label"
    assert (shown.labelled[-1].caught, shown.labelled[-1].labelled) == (1, 1)
    with reach.database.session() as session:
        rows = session.scalars(select(FlagRow).where(FlagRow.scan_id == scan, FlagRow.series == key)).all()
        assert [row.steps for row in rows if row.kind == "flat-line"] == [stop - start]
    both = [flag for flag in before if flag.key == "north"][:2]
    verdicts.judge(reach, scan, [("north", both[0].start, both[1].stop)], "right", "storm", "", "", adjusted=True)
    assert next(span(f) for f in show(reach, scan).flags if f.key == "north") == ("north", both[0].start, both[1].stop)
    assert len(show(reach, scan).flags) == len(before) - 1, "two that are one"
    verdicts.judge(reach, scan, [("north", both[0].start, both[1].stop)], "open", None, "", "")
    apart = [("north", each.start - 1, each.stop) for each in both]
    verdicts.judge(reach, scan, apart, "right", None, "", "", adjusted=True)
    assert [span(f) for f in show(reach, scan).flags if f.key == "north"][:2] == apart, "two spans of one word"
    verdicts.undo(reach, scan)
    verdicts.judge(reach, scan, [("east", 300, 312)], "right", None, "", "")
    assert [span(f) for f in show(reach, scan).flags] == [span(f) for f in before], "open again, as it was found"
    masked = reach.panel(uses.use(reach, scan, "mask", "right"))
    assert [(m.key, m.start, m.stop, m.reason) for m in masked.masks] == [
        (key, start, stop, "flat-line"), ("east", 300, 312, "label"),
    ]  # fmt: skip


def test_flags_like_one_and_flags_at_once(reach: Resources, scan: int) -> None:
    shown = show(reach, scan)
    spike = next(flag for flag in shown.flags if span(flag)[:2] == ("north", 600))
    assert [span(f)[:2] for f in shown.alike("north", 600)] == [("north", 600), ("north", 648)], "900 is another hour"
    with pytest.raises(pt.SettingsError, match="no such flag"):
        shown.alike("north", 601)
    counts = dict(zip(map(span, shown.flags), shown.together(), strict=True))
    assert counts[span(spike)] == 1
    assert {n for (key, start, _), n in counts.items() if 698 <= start <= 702} == {2}
    other = replace(spike, start=601, stop=602)
    assert alike(spike, other, 24) and not alike(spike, replace(other, observed=-9.0), 24)
    assert not alike(spike, replace(other, stop=604), 24) and alike(spike, replace(other, stop=603), 24)
    assert not alike(spike, replace(other, start=604, stop=605), 24) and alike(spike, other, 24, (0, 23))
    assert together([(0, 5, 8), (1, 8, 9), (1, 20, 21), (2, 10, 11)]) == [2, 2, 1, 1]


def test_what_is_right_is_masked_or_repaired_in_a_version_of_its_own(reach: Resources, scan: int) -> None:
    with pytest.raises(pt.SettingsError, match="none is called right"):
        uses.use(reach, scan, "mask", "right")
    flags = show(reach, scan).flags
    mine = next(flag for flag in flags if span(flag)[:2] == ("north", 600))
    bad = next(flag for flag in flags if flag.key == "west" and flag.kind == "flat-line")
    verdicts.judge(reach, scan, [span(mine)], "right", None, "", "")
    verdicts.judge(reach, scan, [span(bad)], "wrong", None, "", "")
    masked = reach.panel(uses.use(reach, scan, "mask", "right"))
    assert [(m.key, m.start, m.stop, m.reason) for m in masked.masks] == [("north", 600, 601, "spike")]
    assert np.flatnonzero(masked.marks & NOT_LEARNED).tolist() == [600]
    repaired_id = uses.use(reach, scan, "repair", "not_wrong")
    repaired, plain = reach.panel(repaired_id), town()
    changed = np.flatnonzero(repaired.values != plain.values)
    assert 600 in changed and abs(repaired.series(0)[600] - 50 - 9 * np.sin(600 * np.pi / 12)) < 4
    west = 2 * POINTS + np.arange(1001, 1019)
    assert not set(west.tolist()) & set(changed.tolist()), "what was called wrong stays"
    with reach.database.session() as session:
        made = get_dataset(session, repaired_id)
        spans = made.account["edits"][-1]["repaired"]
        assert ("north", 1, "spike") in {(each["key"], each["points"], each["kind"]) for each in spans}
        assert projects.get_project(session, made.project_id).choices["dataset_id"] == repaired_id
        assert made.parent_id == records.get_scan(session, scan).dataset_id


def test_contenders_are_judged_with_and_without_what_is_flagged(reach: Resources, scan: int) -> None:
    with reach.database.session() as session:
        project, dataset = records.get_scan(session, scan).project_id, records.get_scan(session, scan).dataset_id
        judging = Judging.parse({
            "contenders": [{"name": "naive", "forecaster": {"kind": "seasonal_last_value", "period": 24}},
                           {"name": "mean", "forecaster": {"kind": "mean"}, "chain": [{"kind": "log"}]}],
            "folds": {"count": 2, "horizon": 3}, "baseline": "naive",
        })  # fmt: skip
        source = experiments.create(session, town(), project, dataset, "judge", "x", judging).id
    made = uses.compare(reach, scan, source)
    with reach.database.session() as session:
        told = Judging.parse(experiment_records.get_experiment(session, made).document)
        assert projects.get_project(session, project).choices["experiment_id"] == made
    assert [each.name for each in told.contenders] == ["naive", "mean", "mean, without anomalies"]
    assert [stage.kind for stage in told.contenders[2].chain] == ["without_anomalies", "log"]
    with pytest.raises(pt.SettingsError, match="does not already"):
        uses.compare(reach, scan, made)


def test_flags_are_taken_away_as_they_are_shown(reach: Resources, scan: int) -> None:
    verdicts.judge(reach, scan, [span(show(reach, scan).flags[0])], "right", "pump trip", "=1+1", "Ana")
    shown = show(reach, scan)
    table = uses.table_of(shown)
    rows = table.to_pylist()
    assert [(r["key"], r["kind"], r["verdict"]) for r in rows[:1]] == [(shown.flags[0].key, "pump trip", "right")]
    assert [r["score"] for r in rows] == [flag.score for flag in shown.flags]
    assert all(r["time"] <= r["last"] and r["raised"] >= r["time"] for r in rows)
    read = pa_csv.read_csv(io.BytesIO(csv_bytes(table)))
    assert read.num_rows == len(rows) and read["note"][0].as_py() == "'=1+1", "no formula"
    assert len(json.loads(written(table, "json"))) == len(rows)


def test_a_drill_tells_what_every_budget_would_catch(reach: Resources, here: SimpleNamespace, scan: int) -> None:
    assert all(point.drilled is None for point in show(reach, scan).curve())
    scans.start_drill(reach, scan, repeats=2, seed=1)
    with pytest.raises(ConflictError, match="being drilled"):
        scans.start_drill(reach, scan, repeats=2, seed=1)
    with reach.database.session() as session:
        assert scan in jobs_of(session, DrillWork.task, "scan_id") and DrillWork().wanted(session, {"scan_id": scan})
        assert [each.kind for each in DrillWork().running(session, records.get_scan(session, scan).project_id)] == [
            "drill"
        ]
        scans.stop_drill(session, reach.queue, scan)
        assert not DrillWork().wanted(session, {"scan_id": scan})
    assert DrillWork().run(here, None, {"scan_id": scan}) == "skipped"
    with pytest.raises(pt.SettingsError, match="no shape"):
        scans.start_drill(reach, scan, repeats=2, seed=1, shapes={"leak": [0, 0]})
    scans.start_drill(reach, scan, repeats=2, seed=1, shapes={"leak": [1, 2, 3, 3]})
    assert DrillWork().run(here, None, {"scan_id": scan}) == "done"
    assert "leak" in drill_of(show(reach, scan).scan).recall
    curve = show(reach, scan).curve()
    drilled = [point.drilled for point in curve]
    assert drilled == sorted(drilled, reverse=True) and drilled[0] > 0.3 and drilled[-1] < drilled[0]
    costs = [point.per_week for point in curve]
    assert costs == sorted(costs, reverse=True) and costs[-1] == 0
    shown = show(reach, scan)
    for point in curve[::12]:
        above = pt.find_anomalies(town(), "looking_back", threshold=point.threshold)
        assert isinstance(above, pt.Anomalies)
        fixed = pt.find_anomalies(town(), "as_of", threshold=point.threshold)
        weeks = sum(each.scored for each in shown.found) / 3 / 168
        assert point.per_week == pytest.approx(len(fixed) / weeks)
    DrillWork().give_up(here, None, "no", {"scan_id": scan})
    assert show(reach, scan).scan.drill["state"] == "done", "what is done is not given up"


def test_a_contender_scans_by_what_it_did_not_expect(reach: Resources, here: SimpleNamespace) -> None:
    project, dataset = new_project(reach, "by a contender", town())
    judging = Judging.parse({
        "contenders": [{"name": "naive", "forecaster": {"kind": "seasonal_last_value", "period": 24}}],
        "folds": {"count": 2, "horizon": 3},
    })  # fmt: skip
    panel = reach.panel(dataset)
    with reach.database.session() as session:
        source = experiments.create(session, panel, project, dataset, "judge", "x", judging).id
    settings = ScanSettings(using="contender", experiment_id=source, contender="naive", delay=0)
    number = scans.start_scan(reach, project, dataset, settings)
    with reach.database.session() as session:
        waits = records.get_scan(session, number).experiment_id
        queue = SimpleNamespace(defer=lambda *_, **__: pytest.fail("its experiment is not finished"))
        ScanWork().lost(session, queue)  # type: ignore[arg-type]
        document = session.get(Experiment, waits).document
        assert [each.id for each in experiment_records.experiments_of(session, project)] == [source]
    for cell in Judging.parse(document).cells(panel, panel.hash):
        with reach.database.session() as session:
            save_result(session, compute_cell(panel, cell))
    with reach.database.session() as session:
        experiment_records.set_state(session, waits, "done")
        asked = []
        queue = SimpleNamespace(defer=lambda task, once, **job: asked.append(job))
        ScanWork().lost(session, queue)  # type: ignore[arg-type]
        assert {"scan_id": number, "groups": []} in asked
    assert ScanWork().run(here, None, {"scan_id": number}) == "done"
    found = pt.find_anomalies(town(), using=pt.forecaster("seasonal_last_value", period=24))
    assert told(show(reach, number).flags) == told(found) and len(found) > 2
    with reach.database.session() as session:
        assert session.get(Experiment, waits) is None, "what the scan needs it has"
        with pytest.raises(pt.SettingsError, match="for a detector"):
            scans.start_drill(reach, number, 1, 0)
    lost = scans.start_scan(reach, project, dataset, settings)
    with reach.database.session() as session:
        assert scans.stop(session, reach.queue, lost).state == "stopped"
        assert session.get(Experiment, records.get_scan(session, lost).experiment_id).state in ("stopped", "done")
    with pytest.raises(ConflictError, match="Scan anew"):
        scans.resume(reach, lost)


def test_a_scan_is_stopped_gone_on_with_and_found_again(reach: Resources, here: SimpleNamespace) -> None:
    project, dataset = new_project(reach, "stopped scan", town())
    number = scans.start_scan(reach, project, dataset, ScanSettings())
    job = {"scan_id": number}
    ScanWork().run(here, [1], job)
    with reach.database.session() as session:
        assert [(r.kind, r.done, r.of) for r in ScanWork().running(session, project)] == [("scan", 1, 3)]
        assert ScanWork().wanted(session, job)
        scans.stop(session, reach.queue, number)
        assert number not in jobs_of(session, ScanWork.task, "scan_id") and not ScanWork().wanted(session, job)
        assert ScanWork().running(session, project) == []
    assert ScanWork().run(here, [2], job) == "stopped"
    shown = show(reach, number)
    assert {flag.key for flag in shown.flags} <= {"east"} and shown.found[0].scored == 0
    scans.resume(reach, number)
    with pytest.raises(ConflictError, match="This scan is running"):
        scans.resume(reach, number)
    assert compute(here, number) == ["done", "done"] and state_of(reach, number) == "done"
    assert {flag.key for flag in show(reach, number).flags} == {"north", "east", "west"}, "nothing stale is kept"
    other = scans.start_scan(reach, project, dataset, ScanSettings())
    with reach.database.session() as session:
        reach.queue.cancel(session, ScanWork.task, "scan_id", other)
        asked = []
        ScanWork().lost(session, SimpleNamespace(defer=lambda task, once, **job: asked.append(job)))  # type: ignore[arg-type]
    mine = [each["groups"] for each in asked if each["scan_id"] == other]
    assert sorted(series for groups in mine for group in groups for series in group) == [0, 1, 2]
    ScanWork().give_up(here, [0], "too slow", {"scan_id": other})
    assert state_of(reach, other) == "failed" and ScanWork().parts([4, 5]) == [[4], [5]]
    with reach.database.session() as session:
        assert records.get_scan(session, other).reason == "too slow"
        copy = copy_kept(session, "projects", project, "copy of it")
        its = records.scans_of(session, copy.id)
        assert [each.state for each in its] == ["done"] and records.scanned(session, [its[0].id]) == {its[0].id: 3}
        kept.delete_kept(session, "datasets", dataset)
        assert (
            records.scans_of(session, project) == [] and "scan_id" not in projects.get_project(session, project).choices
        )
        with pytest.raises(NotFoundError, match="is deleted"):
            kept.require_present(session, {"scan_id": number})


def test_a_delivery_is_scanned_as_what_was_there_before(reach: Resources, here: SimpleNamespace, scan: int) -> None:
    verdicts.set_budget(reach, scan, Budget(per_week=3))
    with reach.database.session() as session:
        project, dataset = records.get_scan(session, scan).project_id, records.get_scan(session, scan).dataset_id
        later = save_dataset(session, project, "d", TableReading(town().cut_at(1000), (), {})).id
    assert scans.follow(reach, project, dataset) is None
    number = scans.follow(reach, project, later)
    assert number is not None and compute(here, number) == ["done"] * 3
    shown = show(reach, number)
    assert shown.scan.budget == vars(Budget(per_week=3)) and shown.panel.end == 1000
    back = scans.start_scan(reach, project, later, ScanSettings(mode="looking_back"))
    assert scans.follow(reach, project, dataset) is None, f"{back} looks back, which nobody waits for"
    alone, first = new_project(reach, "no scan yet", town())
    assert scans.follow(reach, alone, first) is None


def test_settings_that_make_no_sense_are_refused(reach: Resources, scan: int) -> None:
    for settings, said in (
        ({"delay": 9}, "0 to 8"), ({"using": "magic"}, "no detector “magic”"),
        ({"using": "contender"}, "Name an experiment"),
        ({"using": "contender", "experiment_id": 1, "contender": "x", "mode": "looking_back"}, "as of every moment"),
        ({"using": "contender", "experiment_id": 1, "contender": "x", "until": 5}, "as of every moment"),
    ):  # fmt: skip
        with pytest.raises(pt.SettingsError, match=said):
            ScanSettings(**settings).check()
    with pytest.raises(pt.SettingsError, match="not both"):
        verdicts.set_budget(reach, scan, Budget(per_week=1, threshold=3))
    with pytest.raises(NotFoundError, match="no scan"):
        show(reach, 99_999_999)
    foreign, _ = new_project(reach, "foreign", town())
    with reach.database.session() as session:
        dataset = records.get_scan(session, scan).dataset_id
    with pytest.raises(pt.SettingsError, match="another project"):
        scans.start_scan(reach, foreign, dataset, ScanSettings())


def test_verdicts_measure_thresholds() -> None:
    points = labelled_curve([(9.0, True), (8.0, False), (8.0, True), (5.0, False)], missed=1)
    assert [(p.precision.right, p.precision.judged, p.recall) for p in points] == [
        (1, 1, pytest.approx(1 / 3)), (2, 3, pytest.approx(2 / 3)), (2, 4, pytest.approx(2 / 3)),
    ]  # fmt: skip
    assert points[0].threshold < 9 < np.nextafter(points[0].threshold, 10) + 1e-9
    assert threshold_for(points, 0.6) == points[1].threshold and threshold_for(points, 1.0) == points[0].threshold
    assert threshold_for(points[1:], 0.9) is None and labelled_curve([]) == []
    low, high = wilson(14, 16)
    assert (round(low, 3), round(high, 3)) == (0.640, 0.965) and wilson(0, 0) == (0.0, 1.0)
    assert np.isnan(Precision(0, 0).share) and Precision(1, 4).share == 0.25
