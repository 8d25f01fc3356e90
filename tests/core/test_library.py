"""The library's face: what a notebook or a script meets first."""

import subprocess
import sys
from importlib import resources
from pathlib import Path

import numpy as np
import pandas
import polars
import pyarrow as pa
import pytest

import proteron as pt
from proteron.core.forecasters import FORECASTERS
from proteron.core.panel import FILLED, Mask, Occasion, Panel
from quick import QUICK


def test_everything_public_is_there_typed_and_described() -> None:
    assert resources.files("proteron").joinpath("py.typed").is_file()
    for name in pt.__all__:
        assert getattr(pt, name).__doc__ or name == "METRICS", name
    assert dir(pt) == sorted(pt.__all__)
    with pytest.raises(AttributeError, match="no attribute magic"):
        pt.magic  # noqa: B018


def test_models_are_classes_beside_the_names() -> None:
    assert set(pt.models.__all__) == {each.__name__ for each in FORECASTERS}
    chain = pt.Chain([pt.flatten.ZScore()])
    typed = pt.forecaster(pt.models.Ridge(strength=2.0), chain=chain)
    assert typed == pt.forecaster("ridge", strength=2.0, chain=chain)
    assert typed.hash == pt.forecaster("ridge", strength=2.0, chain=chain).hash
    with pytest.raises(pt.SettingsError, match="stand in the model already"):
        pt.forecaster(pt.models.Ridge(), strength=3.0)


def test_a_document_is_read_back_and_another_version_refused(monkeypatch: pytest.MonkeyPatch) -> None:
    contender = pt.forecaster("theta", chain=pt.Chain([pt.flatten.Log()]))
    document = contender.document()
    assert document["forecaster"]["version"] == 1
    assert pt.Contender.parse(document) == contender
    monkeypatch.setattr(pt.models.Theta, "version", 2)
    with pytest.raises(pt.SettingsError, match="made by version 1 of this method; here it is version 2"):
        pt.Contender.parse(document)


@pytest.mark.parametrize(
    "wrong", [np.arange(30.0), [1.0, 2.0], {"a": [1.0]}, None], ids=lambda each: type(each).__name__
)
def test_wrong_use_is_told_in_words(wrong: object) -> None:
    model, folds = pt.forecaster("mean"), pt.Folds.expanding(count=2, horizon=2)
    for use in (
        lambda: model.fit(wrong), lambda: pt.walk_forward(wrong, {"m": model}, folds),
        lambda: pt.find_anomalies(wrong), lambda: pt.outlook(wrong, model, []), lambda: pt.leak_check(wrong),
        lambda: pt.Chain([]).fit(wrong), lambda: pt.WindowPlan(lags=[1]).cut(wrong),
    ):  # fmt: skip
        with pytest.raises(pt.InputError, match=r"A panel is needed, not .*from_arrays"):
            use()


@pytest.fixture(scope="module")
def whole() -> Panel:
    """A panel with everything a panel can have."""
    rng = np.random.default_rng(4)
    panel = Panel.from_arrays(
        {"a": 50 + rng.normal(size=200), "b": 20 + rng.normal(size=180)}, {"a": "2024-01-01", "b": "2024-01-21"},
        "1 day", "Europe/Lisbon", unit="m³",
        covariates={"rain": {"a": rng.normal(size=200), "b": rng.normal(size=180)},
                    "plan": ("known_ahead", {"a": np.arange(230.0), "b": np.arange(210.0)}),
                    "kind": ("static", {"a": "well", "b": "spring"})},
    )  # fmt: skip
    marks = panel.marks.copy()
    marks[7] = FILLED
    values = panel.values.copy()
    values[[3, 190]] = np.nan
    made = Panel(panel.axis, panel.keys, values, panel.offsets, panel.starts, panel.covariates, marks, panel.unit,
                 occasions=(Occasion("fair", 20, 22),))  # fmt: skip
    return made.with_masks([Mask(30, 33, "works", key="a")])


@pytest.mark.parametrize("kind", [each.model_fields["kind"].default for each in FORECASTERS])
def test_a_fitted_contender_is_saved_and_forecasts_elsewhere_to_the_bit(
    kind: str, whole: Panel, tmp_path: Path
) -> None:
    chain = pt.Chain([pt.flatten.OccasionEffects(), pt.flatten.ZScore()])
    fitted = pt.forecaster(kind, chain=chain, **QUICK.get(kind, {})).fit(whole, until=150, horizon=5)
    path = pt.save_fitted(fitted, tmp_path / "fitted.npz")
    with np.load(path, allow_pickle=False) as archive:
        assert all(archive[name].dtype.kind != "O" for name in archive.files)
    read = pt.load_fitted(path)
    assert read.known.hash == fitted.known.hash and read.contender == fitted.contender and read.until == 150
    one, two = fitted.forecast(5), read.forecast(5)
    assert one.mean.tobytes() == two.mean.tobytes()
    for level in one.levels:
        assert one.lower[level].tobytes() == two.lower[level].tobytes()
    later = [each.means(whole, np.array([170]), 5)[0] for each in (fitted, read)]
    assert later[0].tobytes() == later[1].tobytes()
    assert repr(read) == repr(fitted)


def test_a_file_that_is_no_fitted_contender_is_refused(whole: Panel, tmp_path: Path) -> None:
    fitted = pt.forecaster("mean").fit(whole)
    good = pt.save_fitted(fitted, tmp_path / "good.npz")
    with np.load(good) as archive:
        arrays = dict(archive)
    text = arrays["document"].tobytes().decode()
    for name, change in (
        ("version", text.replace('"schema_version":1,"until"', '"schema_version":9,"until"')),
        ("method", text.replace('"kind":"mean","version":1', '"kind":"mean","version":7')),
        ("axis", text.replace('"axis"', '"no axis"')), ("json", "{"),
    ):  # fmt: skip
        assert change != text, name
        np.savez(tmp_path / f"{name}.npz", **{**arrays, "document": np.frombuffer(change.encode(), np.uint8)})
        with pytest.raises((pt.InputError, pt.SettingsError)):
            pt.load_fitted(tmp_path / f"{name}.npz")
    np.savez(tmp_path / "pickled.npz", document=np.array([{"a": 1}], dtype=object))
    (tmp_path / "text.npz").write_text("hello")
    for name in ("pickled", "text", "absent"):
        with pytest.raises(pt.InputError):
            pt.load_fitted(tmp_path / f"{name}.npz")


def test_tables_go_out_as_data_frames_through_arrow(whole: Panel) -> None:
    frame = polars.DataFrame(whole)
    assert frame.columns == ["time", "key", "value", "filled", "rain", "plan", "kind"]
    assert frame.height == 380 and frame["filled"].sum() == 1 and frame["value"].null_count() == 2
    assert frame.filter(polars.col("key") == "b")["plan"].to_list() == list(range(180))
    forecast = pt.forecaster("mean").fit(whole).forecast(3, levels=[0.8])
    table = pandas.DataFrame.from_records(pa.table(forecast).to_pylist())
    assert list(table.columns) == ["time", "key", "mean", "lower_0.8", "upper_0.8"]
    assert table["mean"].to_numpy() == pytest.approx(forecast.mean.ravel())
    assert (table["lower_0.8"] < table["upper_0.8"]).all()
    report = pt.walk_forward(whole, {"m": pt.forecaster("mean")}, pt.Folds.expanding(count=2, horizon=3))
    assert polars.DataFrame(report.board)["contender"].to_list() == ["m"]
    flags = pt.find_anomalies(whole, using="mean")
    assert polars.DataFrame(flags).columns[:6] == ["time", "key", "start", "stop", "kind", "score"]
    assert polars.DataFrame(pt.WindowPlan(lags=[1]).cut(whole)).height > 100
    for shown in (whole, forecast, report, flags, report.board):
        assert len(repr(shown)) > 20
    assert "Panel of 2 series (a, b), 380 points every 1 day from 2024-01-01" in repr(whole)
    assert "<table>" in forecast._repr_html_() and "<table>" in report._repr_html_()


@pytest.mark.parametrize("library", [pandas, polars, pa], ids=lambda each: each.__name__)
def test_any_frame_that_knows_arrow_is_read_as_a_file_is(library: object) -> None:
    times = [f"2024-01-{day:02d}" for day in range(1, 29)]
    columns = {"day": times * 2, "place": ["a"] * 28 + ["b"] * 28, "flow": [float(v) for v in range(56)]}
    make = {pandas: "DataFrame", polars: "DataFrame", pa: "table"}[library]  # type: ignore[index]
    read = pt.read_table(getattr(library, make)(columns))
    assert read.panel.step == "1 day" and read.panel.keys == ("a", "b")
    assert read.panel["b"].tolist() == list(range(28, 56))
    text = "day,place,flow\n" + "".join(f"{d},{p},{f}\n" for d, p, f in zip(*columns.values(), strict=True))
    assert pt.read_table(text.encode()).panel.hash == read.panel.hash
    typed = getattr(library, make)({**columns, "day": np.array(columns["day"], dtype="datetime64[ms]")})
    assert pt.read_panel(typed, time="day", value="flow", key="place").hash == read.panel.hash
    with pytest.raises(pt.InputError, match="no rows"):
        pt.read_table(getattr(library, make)({"day": [], "flow": []}))


def test_rolling_over_plain_arrays_is_the_feature(rng: np.random.Generator) -> None:
    values = rng.normal(size=(3, 50))
    values[1, 7] = np.nan
    for statistic, settings in (("mean", {}), ("std", {"least": 3}), ("quantile", {"level": 0.3}), ("slope", {})):
        found = pt.windows.rolling(values, statistic, 6, **settings)
        assert found.shape == values.shape
        plan = pt.WindowPlan(rolling=[pt.windows.Rolling(statistic, 6, **settings)], missing="keep")
        for row, each in zip(found, values, strict=True):
            cut = plan.cut(Panel.from_arrays({"a": each}, "2024-01-01", "1 day"), targets=False)
            np.testing.assert_array_equal(row[cut.positions], cut.features[:, 0])
            assert pt.windows.rolling(each, statistic, 6, **settings).tobytes() == row.tobytes()
    by_hand = [np.nan, np.nan, 2.0, 3.0]
    np.testing.assert_allclose(pt.windows.rolling([1.0, 2.0, 3.0, 4.0], "mean", 3), by_hand)
    with pytest.raises(pt.SettingsError, match="rolled over"):
        pt.windows.rolling(np.zeros((2, 2, 2)), "mean", 2)
    with pytest.raises(pt.SettingsError, match="window of at least 2"):
        pt.windows.rolling([1.0, 2.0], "std", 1)


def test_workers_need_no_guard_in_a_script(tmp_path: Path) -> None:
    """A script that starts processes at its top level, as people write them."""
    script = tmp_path / "plain.py"
    script.write_text(
        "import numpy as np, proteron as pt\n"
        "print('begun')\n"
        "panel = pt.Panel.from_arrays({'a': np.arange(60.0) % 7}, '2024-01-01', '1 day')\n"
        "models = {'last': pt.forecaster('last_value'), 'mean': pt.forecaster('mean')}\n"
        "report = pt.walk_forward(panel, models, pt.Folds.expanding(count=3, horizon=3), workers=2)\n"
        "print(len(report.results), __file__.endswith('plain.py'))\n"
    )
    done = subprocess.run([sys.executable, str(script)], capture_output=True, text=True, timeout=120, check=False)
    assert done.returncode == 0, done.stderr
    assert done.stdout.split("\n")[:2] == ["begun", "6 True"]
