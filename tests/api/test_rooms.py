"""Profile and Flatten through HTTP: as of the cutoff, in both units, kept, taken away and brought back."""

import io
import json

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from flask.testing import FlaskClient
from test_api import LOCAL, application, client, dataset, get, post, project, send  # noqa: F401

import proteron as pt
from conftest import hourly_csv
from proteron.core.flatten import STAGES

PARTS = ("", "/level", "/cycles", "/memory", "/shape", "/columns")
CHAIN = [{"kind": "log"}, {"kind": "loess_seasons", "periods": [24]}, {"kind": "z_score"}]


@pytest.mark.parametrize("part", PARTS)
def test_a_profile_knows_nothing_beyond_the_cutoff(client: FlaskClient, project: int, part: str) -> None:  # noqa: F811
    """The same series with another future gives the same answer, to the byte."""
    rng = np.random.default_rng(4)
    known = 50 + 9 * np.sin(np.arange(400) * 2 * np.pi / 24) + rng.normal(size=400)
    answers = []
    for number, future in enumerate((0.0, 1e6)):
        values = np.where(np.arange(400) < 300, known, known + future)
        times = np.datetime_as_string(np.datetime64("2024-01-01T00", "s") + np.arange(400) * np.timedelta64(3600, "s"))
        beside = known * 2 + 9 * np.random.default_rng(5).normal(size=400)
        rows = "\n".join(f"{t}Z,{v:.6f},{b:.6f}" for t, v, b in zip(times, values, beside, strict=True))
        upload = send(client, ("time,value,beside\n" + rows).encode()).json["upload_id"]
        recipe = {"roles": {"beside": "observed"}}
        body = {"project_id": project, "name": f"d{number}", "recipe": recipe}
        made = post(client, f"/uploads/{upload}/dataset", body)
        if made.status_code != 201:
            made = post(client, f"/uploads/{upload}/dataset", {**body, "recipe": {}})
        address = f"/datasets/{made.json['id']}/series/0/profile{part}"
        answers += [post(client, address, {"until": 300, "chain": chain}) for chain in ([], CHAIN)]
    assert all(answer.status_code == 200 for answer in answers)
    if part == "/level":
        for answer in answers:
            assert max(answer.json["observed"]["times"]) < np.datetime64("2024-01-13T13", "s").astype(int)
    assert answers[0].data == answers[2].data
    assert answers[1].data == answers[3].data
    assert answers[0].data != answers[1].data


def test_the_parts_of_a_profile_agree_with_the_core(client: FlaskClient, dataset: int) -> None:  # noqa: F811
    base = f"/datasets/{dataset}/series/0/profile"
    facts = post(client, base, {"until": 300}).json
    assert facts["known"] == 300
    assert {test["name"] for test in facts["tests"]} >= {"unit root", "stationarity", "whiteness", "stable season"}
    assert facts["seasons"][0]["name"] == "day"
    assert facts["seasons"][0]["strength"] > 0.9
    assert any(each["stage"]["kind"] == "loess_seasons" for each in facts["suggestions"])
    cycles = post(client, f"{base}/cycles", {"until": 300}).json
    assert cycles["period"] == 24
    assert len(cycles["lines"]) == 13
    assert cycles["phases"][0] == "0"
    assert cycles["lines"][-1]["values"].count(None) == 12  # the last day is half known
    memory = post(client, f"{base}/memory", {"until": 300}).json
    assert memory["candidates"][0]["name"] == "day"
    assert memory["acf"][24] > 0.8
    shape = post(client, f"{base}/shape", {"until": 300, "lags": [24]}).json
    assert sum(shape["counts"]) == 300
    assert shape["lag_plots"][0]["correlation"] > 0.9
    assert sum(shape["normal"]) == pytest.approx(300, rel=0.1)
    over = post(client, f"{base}/overlay", {"until": 300, "series": 1, "standardised": True}).json
    assert over["label"] == "east"
    assert over["correlation"] > 0.9
    break_at = post(client, f"{base}/break", {"until": 300, "at": 150}).json
    assert break_at["name"] == "break at a date"
    for wrong in ({"until": 300}, {"until": 300, "series": 1, "column": "x"}, {"until": 300, "column": "nothing"}):
        assert post(client, f"{base}/overlay", wrong).status_code == 422


def test_flatten_shows_every_part_in_both_units(client: FlaskClient, dataset: int) -> None:  # noqa: F811
    address = f"/datasets/{dataset}/series/0/flatten"
    body = {"chain": [*CHAIN[:2], {"kind": "min_max", "off": True}, CHAIN[2]], "until": 200, "twin": 1}
    flat = post(client, address, body).json
    assert flat["round_trip"] < 1e-10
    assert [stage["place"] for stage in flat["stages"]] == [0, 1, 3]
    seasons = flat["stages"][1]
    assert [part["name"] for part in seasons["parts"]] == ["trend", "day"]
    assert [part["name"] for part in seasons["twin"]] == ["trend", "day"]
    assert seasons["twin_name"] == "plain"
    assert seasons["variance_share"] > 0.9
    assert len(seasons["parts"][0]["line"]["values"]) == 400  # projected beyond the cutoff
    assert [figure["title"] for figure in seasons["figures"]] == ["day"]
    original = post(client, address, {**body, "units": "original"}).json
    trend = np.array(original["stages"][1]["parts"][0]["line"]["values"])
    assert np.all((trend > 40) & (trend < 60))  # the level, back through the logarithm
    low, high = (np.array(flat[name]) for name in ("projection_low", "projection_high"))
    assert (low < high).all()
    assert len(flat["projection"]["times"]) == 200
    truth = np.array(flat["observed"]["values"][200:])
    assert ((truth > low) & (truth < high)).mean() > 0.6
    facts = post(client, f"{address}/facts", body).json
    assert [each["place"] for each in facts["stages"]] == [0, 1, 3]
    assert facts["acf_before"][24] > 0.8 > abs(facts["acf_after"][24])
    refused = post(client, address, {**body, "chain": [{"kind": "log", "offset": -1000}]})
    assert refused.status_code == 422
    assert "Yeo–Johnson" in refused.json["detail"]


def test_chains_are_offered_saved_replaced_and_forgotten(client: FlaskClient, project: int, dataset: int) -> None:  # noqa: F811
    address = f"/projects/{project}/chains"
    offered = get(client, f"{address}?until=300").json
    assert any(preset["name"].startswith("trend + one season") for preset in offered["presets"])
    assert all(preset["why"] for preset in offered["presets"])
    saved = post(client, address, {"name": "mine", "stages": CHAIN})
    assert saved.status_code == 201
    again = post(client, address, {"name": "mine", "stages": CHAIN[:1]}).json
    assert again["id"] == saved.json["id"]
    found = get(client, address).json["saved"]
    assert [(each["name"], len(each["stages"])) for each in found] == [("mine", 1)]
    assert client.delete(f"/api/v1/chains/{again['id']}", **LOCAL).status_code == 200
    assert get(client, address).json["saved"] == []
    assert client.delete(f"/api/v1/chains/{again['id']}", **LOCAL).status_code == 404


def test_a_fitted_chain_is_kept_taken_away_and_used_on_later_data(
    client: FlaskClient, project: int, dataset: int, rng: np.random.Generator  # noqa: F811
) -> None:  # fmt: skip
    kept = post(client, f"/datasets/{dataset}/fitted-chains", {"chain": CHAIN, "until": 200})
    assert kept.status_code == 201
    assert kept.json["until"] == 200
    assert kept.json["series"] == 2
    assert (
        post(client, f"/datasets/{dataset}/fitted-chains", {"chain": CHAIN, "until": 200}).json["id"] == kept.json["id"]
    )
    document = get(client, f"/fitted-chains/{kept.json['id']}.json").json
    assert document["dataset"] == get(client, f"/datasets/{dataset}").json["hash"]
    # A later delivery: the same series, twice as long.
    upload = send(client, hourly_csv(rng, 800).encode()).json["upload_id"]
    body = {"project_id": project, "name": "later", "recipe": {}}
    later = post(client, f"/uploads/{upload}/dataset", body).json["id"]
    brought = post(client, f"/datasets/{later}/fitted-chains/import", {"document": document})
    assert brought.status_code == 201
    text = get(client, f"/datasets/{later}/fitted-chains/{brought.json['id']}/flat.csv").text
    assert len(text.splitlines()) == 1601
    values = np.array([float(row.split(",")[-1]) for row in text.splitlines()[1:801]])
    assert abs(np.nanstd(values[:200]) - 1) < 0.3
    assert [each["id"] for each in get(client, f"/datasets/{later}/fitted-chains").json["fitted"]] == [
        brought.json["id"]
    ]
    for spoil in (
        lambda d: d.update(schema_version=7),
        lambda d: d.update(step="1 day"),
        lambda d: d["fitted"].update(keys=["elsewhere", "nowhere"]),
        lambda d: d["fitted"]["states"][0].pop(),
        lambda d: d["fitted"].pop("chain"),
        lambda d: d["fitted"]["states"][0][0].update(arrays={"low": "__import__('os')"}),
    ):
        broken = json.loads(json.dumps(document))
        spoil(broken)
        answer = post(client, f"/datasets/{later}/fitted-chains/import", {"document": broken})
        assert answer.status_code == 422, spoil
        assert answer.json["detail"]


def test_the_catalogue_draws_every_stage_from_its_schema(client: FlaskClient) -> None:  # noqa: F811
    stages = get(client, "/catalogue").json["stages"]
    assert set(stages) == {stage.model_fields["kind"].default for stage in STAGES}
    for schema in stages.values():
        assert schema["group"] in ("transform", "trend", "season", "difference", "scale")
        for name, field in schema["properties"].items():
            assert name == "kind" or "title" in field


def test_every_stage_flattens_over_http(client: FlaskClient, dataset: int) -> None:  # noqa: F811
    for stage in STAGES:
        kind = stage.model_fields["kind"].default
        view = post(client, f"/datasets/{dataset}/series/0/flatten", {"chain": [{"kind": kind}], "until": 300})
        assert view.status_code == 200, view.json
        assert view.json["round_trip"] < 1e-10


def test_features_wait_for_the_runner(client: FlaskClient, dataset: int) -> None:  # noqa: F811
    address = f"/datasets/{dataset}/features"
    assert get(client, address).json["state"] == "empty"
    begun = post(client, address, {"until": 300})
    assert begun.status_code == 202
    assert (begun.json["state"], begun.json["done"], begun.json["of"]) == ("running", 0, 2)
    assert post(client, address, {"until": 300}).json["state"] == "running"  # asking twice changes nothing
    stopped = post(client, f"{address}/stop", {"until": 300}).json
    assert stopped["state"] == "stopped"
    assert get(client, f"{address}?until=299").json["state"] == "empty"


def test_a_plan_is_text_and_a_table_is_taken_in_every_form(client: FlaskClient, dataset: int) -> None:  # noqa: F811
    read = post(client, "/plans/text", {"text": "lags 3, 1-2 ; mean 24; weighted mean 5; mean so far; ahead 1-3"}).json
    assert read["text"] == "lags 1-3; mean 24; weighted mean 5; mean so far; ahead 1-3"
    assert "waves" in read["words"]
    refused = post(client, "/plans/text", {"text": "lags 1-3; nonsense"})
    assert refused.status_code == 422
    assert "“nonsense” is not a part of a plan" in refused.json["detail"]
    address = f"/datasets/{dataset}/windows"
    body = {"plan": read["plan"], "until": 300, "chain": [{"kind": "z_score"}]}
    view = post(client, address, body).json
    assert view["text"] == read["text"]
    assert [source["whole"] for source in view["sources"]] == [False] * 4 + [True] * 2
    assert {source["kind"] for source in view["sources"]} == {"lags", "rolling", "weighted", "expanding"}
    assert sum(view["dropped"].values()) + view["total"] == 800

    def take(kind: str, **more: object):  # type: ignore[no-untyped-def]
        headers = {"Accept": kind}
        return client.post(f"/api/v1{address}/table", json={**body, **more}, headers=headers, **LOCAL)

    table = pq.read_table(io.BytesIO(take("application/vnd.apache.parquet", shares=[0.7, 0.2, 0.1]).data))
    assert table.num_rows == view["total"]
    assert set(table["part"].to_pylist()) == {"train", "validation", "test", "gap"}
    stream = pa.ipc.open_stream(take("application/vnd.apache.arrow.stream").data).read_all()
    assert stream.num_rows == view["total"]
    assert take("text/csv").data.count(b"\n") == view["total"] + 1
    with np.load(io.BytesIO(take("application/x-npz").data), allow_pickle=False) as arrays:
        assert arrays["features"].shape == (view["total"], 6)
    card = post(client, f"{address}/card", body).json
    assert card["shape"]["rows"] == view["total"]
    assert card["dataset"] == get(client, f"/datasets/{dataset}").json["hash"]
    assert take("text/csv", shares=[1, 0]).status_code == 422


def test_a_table_is_sorted_filtered_and_explains_its_columns(client: FlaskClient, dataset: int) -> None:  # noqa: F811
    address = f"/datasets/{dataset}/windows"
    plan = pt.windows.read_plan("lags 1-3; mean 24; sum 24; hour_of_day; ahead 1, 6").document()
    body = {"plan": plan, "series": 0, "limit": 2000}
    plain = post(client, address, body).json
    assert plain["total"] == len(plain["rows"])
    lags = [row[0] for row in plain["rows"]]
    down = post(client, address, {**body, "sort": {"column": "lag 1", "descending": True}}).json
    assert [row[0] for row in down["rows"]] == sorted(lags, reverse=True)
    middle = sorted(lags)[len(lags) // 2]
    half = post(client, address, {**body, "where": [{"column": "lag 1", "low": middle}], "find": 200}).json
    assert half["total"] == sum(value >= middle for value in lags)
    assert min(row[0] for row in half["rows"]) == middle
    nearest = min(abs(position - 200) for position in half["positions"])
    assert abs(half["positions"][half["found"]] - 200) == nearest
    assert post(client, address, {**body, "sort": {"column": "lag 9"}}).status_code == 422
    spanned = post(client, address, {**body, "span": [0, -5, 40]}).json
    assert spanned["span_values"][27] == lags[spanned["span_start"] + 27 - plain["positions"][0]]

    facts = post(client, f"{address}/columns", {"plan": plan, "series": 0, "until": 300}).json
    assert facts["looked_at"] == sum(position + 6 < 300 for position in plain["positions"])
    by_name = {each["name"]: each for each in facts["columns"]}
    known = [row for row, position in zip(plain["rows"], plain["positions"], strict=True) if position + 6 < 300]
    expected = np.corrcoef([row[0] for row in known], [row[7] for row in known])[0, 1]
    assert by_name["lag 1"]["correlation"] == pytest.approx(expected, abs=1e-9)
    assert by_name["mean 24"]["nearest"] == "sum 24"
    assert by_name["lag 1"]["information"] > 0

    lost = post(client, f"{address}/left-out", {"plan": plan, "series": 0, "limit": 2000}).json
    assert {name: sum(counts) for name, counts in zip(lost["reasons"], lost["counts"], strict=True) if sum(counts)} == {
        name: count for name, count in plain["dropped"].items() if count
    }
    asked = {"plan": plan, "series": 0, "reason": "look-back before the series"}
    early = post(client, f"{address}/left-out", asked).json
    assert early["total"] == 23 and set(early["why"]) == {"look-back before the series"}


def test_bad_plans_are_refused_where_they_are_typed(client: FlaskClient, dataset: int) -> None:  # noqa: F811
    def refused(**body: object) -> dict:
        got = post(client, "/plans/text", {"dataset_id": dataset, **body})
        assert got.status_code == 422
        return dict(got.json)

    assert "lag 0 would be the target" in refused(text="lags 0-3")["detail"]
    assert refused(text="lags 1, 9000; ahead 1")["field"] == "lags"
    assert "“lag 9000” looks back 9,000 points" in refused(text="lags 1, 9000; ahead 1")["detail"]
    assert refused(text="mean 9000; ahead 1")["field"] == "rolling"
    assert refused(text="lags 1; nowhere at 0; ahead 1")["field"] == "covariates"
    assert refused(plan={"lags": [1], "horizon": []})["field"] == "horizon"
    assert refused(plan={"lags": [0]})["field"].startswith("lags")
    assert refused(text="lags 1; ahead 1-3 fed back")["detail"].count("step by step") == 1
    fine = post(client, "/plans/text", {"dataset_id": dataset, "plan": {"lags": [1], "horizon": [1, 2]}}).json
    assert fine["text"] == "lags 1; ahead 1, 2"
    table = {"plan": {"lags": [9000]}}
    for end in ("", "/table", "/card", "/columns", "/left-out"):
        assert post(client, f"/datasets/{dataset}/windows{end}", table).status_code == 422, end


def test_presets_say_why(client: FlaskClient, dataset: int) -> None:  # noqa: F811
    found = post(client, f"/datasets/{dataset}/windows/presets", {"until": 300, "horizon": [1, 2, 3]}).json["presets"]
    assert len({each["title"] for each in found}) == len(found) >= 2
    for each in found:
        assert each["reason"].endswith(".")
        assert post(client, "/plans/text", {"text": each["text"], "dataset_id": dataset}).json["plan"] == each["plan"]
