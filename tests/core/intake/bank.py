"""A bank of made-up files as people have them, each with what a careful person would read from it."""

import io
import zipfile
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any
from xml.sax.saxutils import escape

import numpy as np

REFUSED = "refused"
DAYS, MONTHS = "2024-01-01", "2021-01"


@dataclass(frozen=True)
class Case:
    """A file, what is known beside it, and what a careful person reads: or the sentence that refuses it."""

    name: str
    content: bytes
    step: str = ""
    first: str = ""
    length: int = 0
    keys: tuple[str, ...] = ("y",)
    head: tuple[float, ...] = ()  # first values of the first series
    roles: dict[str, str] = field(default_factory=dict)
    findings: tuple[str, ...] = ()  # that must be said
    silent: tuple[str, ...] = ()  # that must not be said
    recipe: dict[str, Any] = field(default_factory=dict)
    zone: str = "UTC"
    refusal: str = ""


CASES: list[Case] = []


def case(make: Callable[[], Case]) -> Callable[[], Case]:
    """Put what the function makes into the bank."""
    CASES.append(make())
    return make


def amounts(count: int, seed: int = 1, digits: int = 2) -> list[float]:
    """Numbers around 50, none like another."""
    return (50 + 8 * np.random.default_rng(seed).normal(size=count)).round(digits).tolist()


def moments(first: str, count: int, every: int = 1) -> list[Any]:
    """`count` moments in the unit that `first` is written in."""
    start = np.datetime64(first)
    return [start + every * i for i in range(count)]


def table(header: str, rows: list[tuple[Any, ...]], delimiter: str = ",") -> bytes:
    """A delimited file."""
    lines = [header.replace(",", delimiter), *(delimiter.join(str(cell) for cell in row) for row in rows)]
    return ("\n".join(lines) + "\n").encode()


def series(first: str, values: list[Any], every: int = 1, delimiter: str = ",", header: str = "when,y") -> bytes:
    """One column of times, one of values."""
    times = moments(first, len(values), every)
    return table(header, list(zip(times, values, strict=True)), delimiter)


def workbook(sheets: dict[str, list[tuple[Any, ...]]]) -> bytes:
    """A workbook of plain cells, written by hand: numbers as numbers, all else as text."""

    def cell(value: Any) -> str:
        if isinstance(value, int | float):
            return f"<c><v>{value}</v></c>"
        return f'<c t="inlineStr"><is><t>{escape(str(value))}</t></is></c>'

    space = "http://schemas.openxmlformats.org"
    main, links = f"{space}/spreadsheetml/2006/main", f"{space}/officeDocument/2006/relationships"
    kinds = "application/vnd.openxmlformats-officedocument.spreadsheetml"
    numbers = range(1, len(sheets) + 1)
    parts = {
        "[Content_Types].xml": f'<Types xmlns="{space}/package/2006/content-types">'
        '<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
        f'<Override PartName="/xl/workbook.xml" ContentType="{kinds}.sheet.main+xml"/>'
        + "".join(f'<Override PartName="/xl/s{n}.xml" ContentType="{kinds}.worksheet+xml"/>' for n in numbers)
        + "</Types>",
        "_rels/.rels": f'<Relationships xmlns="{space}/package/2006/relationships">'
        f'<Relationship Id="r1" Type="{links}/officeDocument" Target="xl/workbook.xml"/></Relationships>',
        "xl/workbook.xml": f'<workbook xmlns="{main}" xmlns:r="{links}"><sheets>'
        + "".join(f'<sheet name="{escape(name)}" sheetId="{n}" r:id="r{n}"/>' for n, name in enumerate(sheets, start=1))
        + "</sheets></workbook>",
        "xl/_rels/workbook.xml.rels": f'<Relationships xmlns="{space}/package/2006/relationships">'
        + "".join(f'<Relationship Id="r{n}" Type="{links}/worksheet" Target="s{n}.xml"/>' for n in numbers)
        + "</Relationships>",
    }  # fmt: skip
    for n, rows in zip(numbers, sheets.values(), strict=True):
        body = "".join(f"<row>{''.join(map(cell, row))}</row>" for row in rows)
        parts[f"xl/s{n}.xml"] = f'<worksheet xmlns="{main}"><sheetData>{body}</sheetData></worksheet>'
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as archive:
        for name, text in parts.items():
            archive.writestr(name, text)
    return packed.getvalue()


DAILY = amounts(120)
MONTHLY = amounts(48, 2)


@case
def plain_days() -> Case:
    return Case("plain days", series(DAYS, DAILY), "1 day", "2024-01-01", 120, head=tuple(DAILY[:3]),
                roles={"when": "time", "y": "target"}, silent=("gaps", "ambiguous dates"))  # fmt: skip


@case
def days_without_weekends() -> Case:
    rows = [(d, v) for d, v in zip(moments(DAYS, 120), DAILY, strict=True) if np.is_busday(d)]
    return Case("days without weekends", table("when,y", rows), "1 business day", "2024-01-01", 86,
                head=tuple(DAILY[:5]), findings=("business days",), silent=("gaps",))  # fmt: skip


@case
def days_without_weekends_and_holidays() -> Case:
    closed = [np.datetime64(day) for day in ("2024-01-01", "2024-03-29", "2024-04-25")]  # in Portugal
    rows = [(d, v) for d, v in zip(moments(DAYS, 120), DAILY, strict=True) if np.is_busday(d, holidays=closed)]
    return Case("days without weekends and holidays", table("when,y", rows), "1 business day of PT", "2024-01-02", 83,
                head=tuple(DAILY[1:5]), silent=("gaps", "off grid"), recipe={"step": "business day of PT"})  # fmt: skip


@case
def semicolons_and_decimal_commas() -> Case:
    rows = [(d, f"{v:.2f}".replace(".", ",")) for d, v in zip(moments(DAYS, 120), DAILY, strict=True)]
    return Case("semicolons and decimal commas", table("when,y", rows, ";"), "1 day", "2024-01-01", 120,
                head=tuple(DAILY[:3]))  # fmt: skip


@case
def tabs() -> Case:
    return Case("tabs", series(DAYS, DAILY, delimiter="\t"), "1 day", "2024-01-01", 120, head=tuple(DAILY[:3]))


@case
def bars() -> Case:
    return Case("bars between cells", series(DAYS, DAILY, delimiter="|"), "1 day", "2024-01-01", 120,
                head=tuple(DAILY[:3]))  # fmt: skip


@case
def windows_line_ends() -> Case:
    content = series(DAYS, DAILY).replace(b"\n", b"\r\n")
    return Case("line ends of another system", content, "1 day", "2024-01-01", 120, head=tuple(DAILY[:3]))


@case
def byte_order_mark() -> Case:
    return Case("a mark before the first letter", b"\xef\xbb\xbf" + series(DAYS, DAILY), "1 day", "2024-01-01", 120)


@case
def spaces_after_delimiters() -> Case:
    content = series(DAYS, DAILY).replace(b",", b", ")
    return Case("a space after every delimiter", content, "1 day", "2024-01-01", 120, head=tuple(DAILY[:3]))


@case
def quoted_everything() -> Case:
    rows = [(f'"{d}"', f'"{v}"') for d, v in zip(moments(DAYS, 120), DAILY, strict=True)]
    return Case("everything in quotes", table('"when","y"', rows), "1 day", "2024-01-01", 120, head=tuple(DAILY[:3]))


@case
def hours_with_offsets() -> Case:
    rows = [(f"{t}:00+02:00", v) for t, v in zip(moments("2024-05-01T00:00", 120, 60), DAILY, strict=True)]
    return Case("hours with an offset", table("when,y", rows), "1 hour", "2024-04-30T22:00", 120)


@case
def quarter_hours_over_a_clock_change() -> Case:
    """96 steps a day in the zone's own clock, the repeated hour of October written twice."""
    from zoneinfo import ZoneInfo

    zone = ZoneInfo("Europe/Lisbon")
    utc = moments("2024-10-26T23:00", 96, 15)
    local = [t.item().replace(tzinfo=ZoneInfo("UTC")).astimezone(zone).strftime("%Y-%m-%d %H:%M") for t in utc]
    return Case("quarter hours over a clock change", table("when,y", list(zip(local, DAILY, strict=False))),
                "15 minutes", "2024-10-26T23:00", 96, findings=("clock change",), silent=("duplicate times", "gaps"),
                zone="Europe/Lisbon")  # fmt: skip


@case
def days_with_dots() -> Case:
    rows = [(d.item().strftime("%d.%m.%Y"), v) for d, v in zip(moments(DAYS, 120), DAILY, strict=True)]
    return Case("days with dots", table("Datum,y", rows), "1 day", "2024-01-01", 120, silent=("ambiguous dates",))


@case
def days_month_first() -> Case:
    rows = [(d.item().strftime("%m/%d/%Y"), v) for d, v in zip(moments(DAYS, 120), DAILY, strict=True)]
    return Case("days, month first", table("date,y", rows), "1 day", "2024-01-01", 120, silent=("ambiguous dates",))


@case
def days_day_first_two_digits() -> Case:
    rows = [(d.item().strftime("%d/%m/%y"), v) for d, v in zip(moments(DAYS, 120), DAILY, strict=True)]
    return Case("days, two-digit years", table("date,y", rows), "1 day", "2024-01-01", 120)


def _monthly(name: str, form: str, header: str = "date,y", **more: Any) -> Case:
    """36 months, each written as its first day in a form of numbers."""
    rows = []
    for month, value in zip(moments(MONTHS, 36), MONTHLY, strict=False):
        day = month.astype("datetime64[D]").item()
        text = day.strftime(form)
        rows.append((text.lstrip("0").replace("/0", "/") if form.startswith("%m/%-") else text, value))
    return Case(name, table(header, rows), "1 month", "2021-01-01", 36, head=tuple(MONTHLY[:3]), **more)


case(lambda: _monthly("months as 01/mm/yyyy", "%d/%m/%Y"))
case(lambda: _monthly("months as mm/01/yyyy", "%m/%d/%Y"))
case(lambda: _monthly("months as 01.mm.yyyy", "%d.%m.%Y", silent=("ambiguous dates",)))
case(lambda: _monthly("months as m/1/yyyy", "%m/%-d/%Y"))
case(lambda: _monthly("months as 01/mm/yy", "%d/%m/%y"))
case(lambda: _monthly("months as mm/01/yy", "%m/%d/%y"))
case(lambda: _monthly("months as 01-mm-yyyy", "%d-%m-%Y"))
case(lambda: _monthly("months as yyyy-mm-01", "%Y-%m-%d", silent=("ambiguous dates",)))
case(lambda: _monthly("months as yyyymm", "%Y%m", header="month,y"))
case(lambda: _monthly("months by name", "%b %Y"))
case(lambda: _monthly("months by short name and year", "%b-%y"))


@case
def quarters_day_first() -> Case:
    rows = [(m.astype("datetime64[D]").item().strftime("%d/%m/%Y"), v)
            for m, v in zip(moments(MONTHS, 24, 3), MONTHLY, strict=False)]  # fmt: skip
    return Case("quarters as 01/mm/yyyy", table("date,y", rows), "1 quarter", "2021-01-01", 24)


@case
def quarters_month_first() -> Case:
    rows = [(m.astype("datetime64[D]").item().strftime("%m/%d/%Y"), v)
            for m, v in zip(moments(MONTHS, 24, 3), MONTHLY, strict=False)]  # fmt: skip
    return Case("quarters as mm/01/yyyy", table("date,y", rows), "1 quarter", "2021-01-01", 24)


@case
def month_ends() -> Case:
    ends = [(m + 1).astype("datetime64[D]") - 1 for m in moments(MONTHS, 36)]
    return Case("months by their last day", table("date,y", list(zip(ends, MONTHLY, strict=False))), "1 month", "",
                36)  # fmt: skip


@case
def month_ends_day_first() -> Case:
    ends = [((m + 1).astype("datetime64[D]") - 1).item().strftime("%d/%m/%Y") for m in moments(MONTHS, 36)]
    return Case("months by their last day, day first", table("date,y", list(zip(ends, MONTHLY, strict=False))),
                "1 month", "", 36, silent=("ambiguous dates",))  # fmt: skip


@case
def stated_step_settles() -> Case:
    rows = [(m.astype("datetime64[D]").item().strftime("%d/%m/%Y"), v)
            for m, v in zip(moments(MONTHS, 12), MONTHLY, strict=False)]  # fmt: skip
    return Case("a stated step settles day and month", table("date,y", rows), "1 month", "2021-01-01", 12,
                recipe={"step": "1 month"}, silent=("ambiguous dates",))  # fmt: skip


@case
def stated_form_settles() -> Case:
    rows = [(m.astype("datetime64[D]").item().strftime("%d/%m/%Y"), v)
            for m, v in zip(moments(MONTHS, 12), MONTHLY, strict=False)]  # fmt: skip
    return Case("a stated form settles day and month", table("date,y", rows), "1 day", "2021-01-01", 12,
                recipe={"time_form": "month first"}, silent=("ambiguous dates",))  # fmt: skip


@case
def years() -> Case:
    return Case("years", table("year,y", list(zip(range(1960, 2020), amounts(60, 3), strict=True))), "1 year",
                "1960-01-01", 60)  # fmt: skip


@case
def weeks() -> Case:
    rows = [(f"2021-W{w:02d}", v) for w, v in zip(range(1, 53), amounts(52, 4), strict=True)]
    return Case("weeks by number", table("week,y", rows), "1 week", "2021-01-04", 52)


@case
def sundays() -> Case:
    return Case("weeks by their Sundays", series("2021-01-03", amounts(80, 5), 7), "1 week", "2021-01-03", 80)


@case
def epochs() -> Case:
    rows = [(1_700_000_000 + 3600 * i, v) for i, v in enumerate(DAILY)]
    return Case("seconds since 1970", table("ts,y", rows), "1 hour", "2023-11-14T22:13:20", 120)


@case
def spreadsheet_days() -> Case:
    return Case("days counted by a spreadsheet", table("date,y", [(45_292 + i, v) for i, v in enumerate(DAILY)]),
                "1 day", "2024-01-01", 120)  # fmt: skip


@case
def date_and_hour_columns() -> Case:
    rows = [(str(t)[:10], str(t)[11:16], v) for t, v in zip(moments("2024-01-01T00:00", 120, 60), DAILY, strict=True)]
    return Case("a date and a clock", table("date,clock,y", rows), "1 hour", "2024-01-01", 120)


@case
def year_and_month_columns() -> Case:
    rows = [(m.item().year, m.item().month, v) for m, v in zip(moments(MONTHS, 48), MONTHLY, strict=True)]
    return Case("year and month in columns of their own", table("year,month,y", rows), "1 month", "2021-01-01", 48,
                head=tuple(MONTHLY[:3]), roles={"year": "time", "month": "time", "y": "target"})  # fmt: skip


@case
def year_and_quarter_columns() -> Case:
    rows = [(2010 + i // 4, i % 4 + 1, v) for i, v in enumerate(amounts(40, 6))]
    return Case("year and quarter in columns of their own", table("year,quarter,y", rows), "1 quarter", "2010-01-01",
                40, roles={"year": "time", "quarter": "time"})  # fmt: skip


@case
def year_and_week_columns() -> Case:
    weeks = [np.datetime64("2021-01-04") + 7 * i for i in range(80)]
    rows = [(*w.item().isocalendar()[:2], v) for w, v in zip(weeks, amounts(80, 7), strict=True)]
    return Case("year and week in columns of their own", table("year,week,y", rows), "1 week", "2021-01-04", 80,
                roles={"year": "time", "week": "time"})  # fmt: skip


@case
def year_and_month_names() -> Case:
    rows = [(m.item().year, m.item().strftime("%B"), v) for m, v in zip(moments(MONTHS, 48), MONTHLY, strict=True)]
    return Case("year and the name of the month", table("year,month,y", rows), "1 month", "2021-01-01", 48,
                roles={"year": "time", "month": "time"})  # fmt: skip


@case
def year_month_day_columns() -> Case:
    rows = [(d.item().year, d.item().month, d.item().day, v) for d, v in zip(moments(DAYS, 120), DAILY, strict=True)]
    return Case("year, month and day in columns of their own", table("year,month,day,y", rows), "1 day", "2024-01-01",
                120, roles={"year": "time", "month": "time", "day": "time"})  # fmt: skip


@case
def months_across() -> Case:
    names = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")
    values = np.array(amounts(120, 8)).reshape(10, 12)
    rows = [(2010 + i, *row) for i, row in enumerate(values.tolist())]
    return Case("months across a wide sheet", table("year," + ",".join(names), rows), "1 month", "2010-01-01", 120,
                keys=("value",), head=tuple(values[0, :3].tolist()))  # fmt: skip


@case
def months_across_per_site() -> Case:
    months = [str(m) for m in moments(MONTHS, 24)]
    values = np.array(amounts(72, 9)).reshape(3, 24)
    rows = [(site, *row) for site, row in zip(("north", "east", "west"), values.tolist(), strict=True)]
    return Case("months across, a row per site", table("site," + ",".join(months), rows), "1 month", "2021-01-01", 24,
                keys=("north", "east", "west"), head=tuple(values[0, :3].tolist()))  # fmt: skip


@case
def two_header_lines() -> Case:
    head = "when,north,north,east,east\n,inflow,level,inflow,level\n"
    rows = [(d, *v) for d, v in zip(moments(DAYS, 30), np.array(DAILY).reshape(30, 4).tolist(), strict=True)]
    body = "\n".join(",".join(str(cell) for cell in row) for row in rows)
    names = ("north inflow", "north level", "east inflow", "east level")
    return Case("two header lines", (head + body).encode(), "1 day", "2024-01-01", 30, keys=names, head=(DAILY[0],),
                recipe={"roles": dict.fromkeys(names, "target")})  # fmt: skip


@case
def title_above() -> Case:
    content = b"Water board of the made-up valley;\nprinted 3 May;\n\n" + series(DAYS, DAILY, delimiter=";")
    return Case("a title above the table", content, "1 day", "2024-01-01", 120, head=tuple(DAILY[:3]))


@case
def comments_above() -> Case:
    return Case("comments above the table", b"# a note\n# another\n" + series(DAYS, DAILY), "1 day", "2024-01-01", 120)


@case
def no_header() -> Case:
    content = b"\n".join(series(DAYS, DAILY).splitlines()[1:])
    return Case("no header", content, "1 day", "2024-01-01", 120, keys=("column 2",), head=tuple(DAILY[:3]))


@case
def totals_below() -> Case:
    content = series(DAYS, DAILY) + f"Total,{sum(DAILY):.2f}\n".encode()
    return Case("a total below", content, "1 day", "2024-01-01", 120, findings=("totals row",))


@case
def long_with_keys() -> Case:
    rows = [(d, site, v) for site, seed in (("north", 1), ("east", 2)) for d, v in
            zip(moments(DAYS, 60), amounts(60, seed), strict=True)]  # fmt: skip
    return Case("rows of two sites below each other", table("day,site,inflow", rows), "1 day", "2024-01-01", 60,
                keys=("north", "east"), roles={"site": "key", "inflow": "target"})  # fmt: skip


@case
def long_interleaved() -> Case:
    rows = [(d, site, amounts(60, seed)[i]) for i, d in enumerate(moments(DAYS, 60)) for site, seed in
            (("north", 1), ("east", 2))]  # fmt: skip
    return Case("rows of two sites in turn", table("day,site,inflow", rows), "1 day", "2024-01-01", 60,
                keys=("north", "east"), roles={"site": "key"})  # fmt: skip


@case
def wide_sites() -> Case:
    values = np.array(amounts(150, 10)).reshape(50, 3).tolist()
    rows = [(d, *v) for d, v in zip(moments(DAYS, 50), values, strict=True)]
    return Case("a column per site", table("day,pump 1,pump 2,pump 3", rows), "1 day", "2024-01-01", 50,
                keys=("pump 1", "pump 2", "pump 3"))  # fmt: skip


@case
def missing_marks() -> Case:
    values: list[Any] = list(DAILY)
    values[5], values[17], values[40] = "NA", "-", ""
    return Case("marks for what is missing", series(DAYS, values), "1 day", "2024-01-01", 120, findings=("gaps",))


@case
def missing_days() -> Case:
    rows = [(d, v) for i, (d, v) in enumerate(zip(moments(DAYS, 120), DAILY, strict=True)) if i not in (9, 10, 50)]
    return Case("days that are not there", table("day,y", rows), "1 day", "2024-01-01", 120, findings=("gaps",))


@case
def thousands_separated() -> Case:
    values = [f'"{1000 * v:,.2f}"' for v in DAILY]
    return Case("thousands with commas", series(DAYS, values), "1 day", "2024-01-01", 120,
                head=(round(1000 * DAILY[0], 2),))  # fmt: skip


@case
def currencies() -> Case:
    return Case("amounts with a sign of money", series(DAYS, [f"€{v:.2f}" for v in DAILY]), "1 day", "2024-01-01", 120,
                head=tuple(DAILY[:2]))  # fmt: skip


@case
def percentages() -> Case:
    return Case("shares in per cent", series(DAYS, [f"{v:.1f}%" for v in DAILY]), "1 day", "2024-01-01", 120)


@case
def latin_letters() -> Case:
    content = series(DAYS, DAILY, delimiter=";", header="when,größe").decode().encode("latin-1")
    return Case("letters of an old encoding", content, "1 day", "2024-01-01", 120, keys=("größe",))


@case
def two_byte_letters() -> Case:
    return Case("letters of two bytes", series(DAYS, DAILY).decode().encode("utf-16"), "1 day", "2024-01-01", 120)


@case
def repeated_rows() -> Case:
    lines = series(DAYS, DAILY).splitlines()
    return Case("a row that stands twice", b"\n".join([*lines[:20], lines[19], *lines[20:]]), "1 day", "2024-01-01",
                120, findings=("repeated rows",), silent=("duplicate times",))  # fmt: skip


@case
def contradicting_rows() -> Case:
    content = series(DAYS, DAILY) + b"2024-01-05,999\n"
    return Case("two values for one day", content, "1 day", "2024-01-01", 120, findings=("duplicate times",))


@case
def unsorted_rows() -> Case:
    head, *lines = series(DAYS, DAILY).splitlines()
    order = np.random.default_rng(1).permutation(len(lines))
    return Case("rows in no order", b"\n".join([head, *(lines[i] for i in order)]), "1 day", "2024-01-01", 120,
                head=tuple(DAILY[:3]), findings=("unsorted",))  # fmt: skip


@case
def newest_first() -> Case:
    head, *lines = series(DAYS, DAILY).splitlines()
    return Case("newest first", b"\n".join([head, *lines[::-1]]), "1 day", "2024-01-01", 120, head=tuple(DAILY[:3]))


@case
def a_stuck_meter() -> Case:
    values = [*DAILY[:60], *[51.5] * 30, *DAILY[60:]]
    return Case("a meter that sticks", series(DAYS, values), "1 day", "2024-01-01", 150, findings=("flat run",))


@case
def a_change_of_unit() -> Case:
    values = [v / 1000 for v in DAILY[:60]] + DAILY[60:]
    return Case("a change of unit", series(DAYS, values), "1 day", "2024-01-01", 120, findings=("change of unit",))


@case
def a_constant_column() -> Case:
    rows = [(d, v, 7) for d, v in zip(moments(DAYS, 120), DAILY, strict=True)]
    return Case("a column that never changes", table("day,y,setting", rows), "1 day", "2024-01-01", 120,
                findings=("constant column",))  # fmt: skip


@case
def a_column_that_tells() -> Case:
    rows = [(d, v, round(v * 1.0, 2)) for d, v in zip(moments(DAYS, 120), DAILY, strict=True)]
    return Case("a copy of the target", table("day,y,y_again", rows), "1 day", "2024-01-01", 120,
                findings=("leaks the target",))  # fmt: skip


@case
def a_row_number() -> Case:
    rows = [(i + 1, d, v) for i, (d, v) in enumerate(zip(moments(DAYS, 120), DAILY, strict=True))]
    return Case("a number per row", table("id,day,y", rows), "1 day", "2024-01-01", 120, keys=("y",),
                roles={"id": "ignore", "y": "target"})  # fmt: skip


@case
def a_note_per_row() -> Case:
    rows = [(d, v, f"seen by nobody {i}") for i, (d, v) in enumerate(zip(moments(DAYS, 120), DAILY, strict=True))]
    return Case("a note per row", table("day,y,note", rows), "1 day", "2024-01-01", 120, roles={"note": "ignore"})


@case
def planned_beside() -> Case:
    rows = [(d, v, i % 7 == 0) for i, (d, v) in enumerate(zip(moments(DAYS, 120), DAILY, strict=True))]
    rows = [(d, v, int(p)) for d, v, p in rows]
    return Case("what is planned", table("day,y,holiday", rows), "1 day", "2024-01-01", 120,
                roles={"holiday": "known_ahead"})  # fmt: skip


@case
def known_rows_ahead() -> Case:
    times = moments(DAYS, 130)
    rows = [(d, DAILY[i] if i < 120 else "", 10 + i % 3) for i, d in enumerate(times)]
    return Case("rows ahead of the target", table("day,y,price", rows), "1 day", "2024-01-01", 120,
                roles={"price": "known_ahead"})  # fmt: skip


@case
def json_lines() -> Case:
    rows = [f'{{"when": "{d}", "y": {v}}}' for d, v in zip(moments(DAYS, 120), DAILY, strict=True)]
    return Case("a JSON object per line", "\n".join(rows).encode(), "1 day", "2024-01-01", 120, head=tuple(DAILY[:3]))


@case
def json_array() -> Case:
    rows = ",".join(f'{{"when": "{d}", "m": {{"y": {v}}}}}' for d, v in zip(moments(DAYS, 120), DAILY, strict=True))
    return Case("a JSON array", f"[{rows}]".encode(), "1 day", "2024-01-01", 120, keys=("m.y",))


@case
def text_for_numbers() -> Case:
    values: list[Any] = list(DAILY)
    values[30] = "broken"
    return Case("a word among numbers", series(DAYS, values), "1 day", "2024-01-01", 120, findings=("mixed types",))


@case
def infinite_values() -> Case:
    values: list[Any] = list(DAILY)
    values[30] = "inf"
    return Case("an infinite value", series(DAYS, values), "1 day", "2024-01-01", 120, findings=("infinite", "gaps"))


@case
def half_a_day_off() -> Case:
    content = series(DAYS, DAILY) + b"2024-04-30T11:00,51\n2024-05-01,52\n"
    return Case("one time off the grid", content, "1 day", "2024-01-01", 122, findings=("off grid",))


@case
def two_clocks() -> Case:
    rows = [(f"{d} 12:00 PM" if i % 2 else f"{d} 12:00 AM", v) for i, (d, v) in
            enumerate(zip([np.datetime64("2024-01-01") + k // 2 for k in range(120)], DAILY, strict=True))]  # fmt: skip
    rows = [(f"{t[5:7]}/{t[8:10]}/{t[:4]}{t[10:]}", v) for t, v in rows]
    return Case("a clock of twelve hours", table("when,y", rows), "12 hours", "2024-01-01", 120)


@case
def nothing() -> Case:
    return Case("nothing at all", b"", refusal="The file is empty")


@case
def header_only() -> Case:
    return Case("a header and nothing below", b"when,y\n", refusal="no row below it")


@case
def a_picture() -> Case:
    return Case("a picture", b"\x89PNG\r\n\x1a\n\x00\x00\x00" * 30, refusal="This is not text")


@case
def no_time() -> Case:
    return Case("no time at all", table("a,b", [(v, w) for v, w in zip(DAILY, amounts(120, 2), strict=True)]),
                refusal="No column reads as a time")  # fmt: skip


@case
def no_number() -> Case:
    return Case("no number at all", table("day,word", [(d, f"word {i}") for i, d in enumerate(moments(DAYS, 30))]),
                refusal="No column is marked as the target")  # fmt: skip


@case
def one_row() -> Case:
    return Case("one row", b"when,y\n2024-01-01,5\n", refusal="One row is not a series")


@case
def torn_json() -> Case:
    return Case("a torn JSON file", b'{"when": ', refusal="No line is a JSON object")


@case
def date_and_hour_number() -> Case:
    rows = [(str(t)[:10], t.item().hour, v) for t, v in zip(moments("2024-01-01T00", 120), DAILY, strict=True)]
    return Case("a date and the number of the hour", table("date,hour,load", rows), "1 hour", "2024-01-01", 120,
                keys=("load",), roles={"date": "time", "hour": "time", "load": "target"})  # fmt: skip


@case
def date_and_hour_ending() -> Case:
    rows = [(str(t)[:10], t.item().hour + 1, v) for t, v in zip(moments("2024-01-01T00", 120), DAILY, strict=True)]
    return Case("a date and hours 1 to 24", table("date,hour,load", rows), "1 hour", "2024-01-01", 120,
                keys=("load",), silent=("duplicate times",))  # fmt: skip


@case
def quarters_across() -> Case:
    values = np.array(amounts(40, 11)).reshape(10, 4)
    rows = [(2010 + i, *row) for i, row in enumerate(values.tolist())]
    return Case("quarters across", table("year,Q1,Q2,Q3,Q4", rows), "1 quarter", "2010-01-01", 40, keys=("value",),
                head=tuple(values[0].tolist()))  # fmt: skip


@case
def years_across_months_down() -> Case:
    values = np.array(amounts(60, 12)).reshape(5, 12)
    rows = [(m + 1, *values[:, m].tolist()) for m in range(12)]
    return Case("years across, months down", table("month,2015,2016,2017,2018,2019", rows), "1 month", "2015-01-01",
                60, keys=("value",), head=tuple(values[0, :3].tolist()))  # fmt: skip


@case
def month_names_down_years_across() -> Case:
    values = np.array(amounts(36, 13)).reshape(3, 12)
    names = [m.item().strftime("%B") for m in moments(MONTHS, 12)]
    rows = [(name, *values[:, m].tolist()) for m, name in enumerate(names)]
    return Case("years across, names of months down", table("month,2015,2016,2017", rows), "1 month", "2015-01-01",
                36, keys=("value",), head=tuple(values[0, :2].tolist()))  # fmt: skip


@case
def years_across_per_site() -> Case:
    values = np.array(amounts(60, 14)).reshape(3, 20)
    rows = [(site, *row) for site, row in zip(("north", "east", "west"), values.tolist(), strict=True)]
    header = "site," + ",".join(str(year) for year in range(2000, 2020))
    return Case("years across, a row per site", table(header, rows), "1 year", "2000-01-01", 20,
                keys=("north", "east", "west"), head=tuple(values[0, :2].tolist()))  # fmt: skip


@case
def days_across() -> Case:
    days = [d.item().strftime("%d.%m.%Y") for d in moments(DAYS, 30)]
    values = np.array(amounts(60, 15)).reshape(2, 30)
    rows = [(site, *row) for site, row in zip(("north", "east"), values.tolist(), strict=True)]
    return Case("days across", table("site," + ",".join(days), rows), "1 day", "2024-01-01", 30,
                keys=("north", "east"), findings=("times across",))  # fmt: skip


@case
def unfinished_last_year() -> Case:
    values = np.array(amounts(36, 16)).reshape(3, 12).tolist()
    values[2][7:] = [""] * 5
    rows = [(2021 + i, *row) for i, row in enumerate(values)]
    names = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")
    return Case("months across, the last year not over", table("year," + ",".join(names), rows), "1 month",
                "2021-01-01", 31, keys=("value",))  # fmt: skip


def _events(count: int, first: str = DAYS, span: int = 366) -> list[np.datetime64]:
    rng = np.random.default_rng(17)
    return sorted(np.datetime64(first, "s") + rng.integers(0, span * 86400, count))


@case
def events_with_ids() -> Case:
    rows = [(90_000 + i, t, "ab"[i % 2]) for i, t in enumerate(_events(3000))]
    return Case("events with an id", table("event_id,at,kind", rows), "1 day", "2024-01-02", 364, keys=("a", "b"),
                roles={"event_id": "ignore", "at": "time", "kind": "key"},
                recipe={"events": {"step": "1 day"}})  # fmt: skip


@case
def events_far_away() -> Case:
    rows = [(t, 1.5) for t in [*_events(3000), *moments("2009-03-01", 10)]]
    return Case("events of which ten are fifteen years older", table("at,amount", rows), "1 day", "2024-01-02", 364,
                keys=("count",), findings=("stray times",), recipe={"events": {"step": "1 day"}})  # fmt: skip


@case
def events_of_the_epoch() -> Case:
    rows = [(t, 1.5) for t in [np.datetime64("1970-01-01T00:00:00"), *_events(3000)]]
    return Case("events of which one is dated 1970", table("at,amount", rows), "1 day", "2024-01-02", 364,
                keys=("count",), findings=("stray times",), recipe={"events": {"step": "1 day"}})  # fmt: skip


@case
def a_day_far_ahead() -> Case:
    content = series(DAYS, DAILY) + b"2042-05-01,50\n"
    return Case("a day eighteen years ahead", content, "1 day", "2024-01-01", 120, findings=("stray times",))


@case
def events_of_a_stated_period() -> Case:
    rows = [(t, 1.5) for t in _events(300, "2024-01-05", 20)]
    return Case("events of a stated period", table("at,amount", rows), "1 day", "2024-01-01", 31, keys=("count",),
                head=(0.0, 0.0, 0.0, 0.0), recipe={"events": {"step": "1 day"}, "period_start": "2024-01-01",
                "period_end": "2024-01-31"})  # fmt: skip


@case
def hours_of_a_stated_period() -> Case:
    content = series("2024-01-01T00", amounts(24 * 40, 18))
    return Case("hours to the end of a stated day", content, "1 hour", "2024-01-01", 24 * 31,
                recipe={"period_end": "2024-01-31"}, findings=("outside period",))  # fmt: skip


@case
def starts_and_ends() -> Case:
    starts = _events(400, DAYS, 40)
    stay = np.random.default_rng(19).integers(60, 6000, 400)
    rows = [(t, t + np.timedelta64(int(s), "s")) for t, s in zip(starts, stay, strict=True)]
    return Case("starts and ends", table("started,ended", rows), "1 day", "2024-01-02", 38,
                keys=("duration (minutes)",), roles={"started": "time", "ended": "ignore",
                "duration (minutes)": "target"}, recipe={"events": {"step": "1 day", "aggregate": "mean"}})  # fmt: skip


@case
def ends_before_starts() -> Case:
    starts = _events(400, DAYS, 40)
    rows = [(t, t + np.timedelta64(600 + 3 * i if i % 90 else -300, "s")) for i, t in enumerate(starts)]
    return Case("ends before starts", table("start,end", rows), "1 day", "2024-01-02", 38, keys=("count",),
                findings=("negative", "durations"), recipe={"events": {"step": "1 day"}})  # fmt: skip


@case
def a_proportional_column() -> Case:
    rows = [(d, v, round(0.3 * v, 6)) for d, v in zip(moments(DAYS, 120), DAILY, strict=True)]
    return Case("the target in another currency", table("day,revenue,price_usd", rows), "1 day", "2024-01-01", 120,
                keys=("revenue",), findings=("leaks the target",))  # fmt: skip


@case
def a_row_number_without_a_name() -> Case:
    rows = [(i, d, v) for i, (d, v) in enumerate(zip(moments(DAYS, 120), DAILY, strict=True))]
    return Case("a row number under “index”", table("index,day,y", rows), "1 day", "2024-01-01", 120,
                roles={"index": "ignore"})  # fmt: skip


@case
def sevens_of_days_with_a_zone() -> Case:
    rows = [(f"{d}T00:00:00Z", v) for d, v in zip(moments("2024-01-01", 60), DAILY, strict=False)]
    return Case("days in universal time", table("when,y", rows), "1 day", "2024-01-01", 60)


@case
def named_days() -> Case:
    rows = [(d.item().strftime("%a %d %b %Y"), v) for d, v in zip(moments(DAYS, 60), DAILY, strict=False)]
    return Case("days with their weekday", table("day,y", rows), "1 day", "2024-01-01", 60)


@case
def half_years() -> Case:
    return Case("half years", table("date,y", [(m.astype("datetime64[D]"), v) for m, v in
                zip(moments("2001-01", 30, 6), MONTHLY, strict=False)]), "6 months", "2001-01-01", 30)  # fmt: skip


@case
def months_with_one_missing() -> Case:
    rows = [(m.astype("datetime64[D]").item().strftime("%d/%m/%Y"), v)
            for i, (m, v) in enumerate(zip(moments(MONTHS, 36), MONTHLY, strict=False)) if i != 20]  # fmt: skip
    return Case("months as 01/mm/yyyy, one missing", table("date,y", rows), "1 month", "2021-01-01", 36,
                findings=("gaps",))  # fmt: skip


@case
def twelve_firsts() -> Case:
    """Twelve months or twelve days of January: months are taken, and it is asked."""
    rows = [(m.astype("datetime64[D]").item().strftime("%d/%m/%Y"), v)
            for m, v in zip(moments(MONTHS, 12), MONTHLY, strict=False)]  # fmt: skip
    return Case("twelve firsts, either way round", table("date,y", rows), "1 month", "2021-01-01", 12,
                findings=("ambiguous dates",))  # fmt: skip


SHEET = [("day", "y"), *zip(map(str, moments(DAYS, 120)), DAILY, strict=True)]


@case
def a_workbook() -> Case:
    return Case("a workbook of one sheet", workbook({"data": SHEET}), "1 day", "2024-01-01", 120,
                head=tuple(DAILY[:3]), silent=("sheets",))  # fmt: skip


@case
def words_before_the_data() -> Case:
    content = workbook({"read me": [("Made by hand, see the next sheet.",)], "data": SHEET})
    return Case("a sheet of words, then the data", content, "1 day", "2024-01-01", 120, findings=("sheets",))


@case
def two_tables() -> Case:
    content = workbook({"inflow": SHEET, "other": SHEET[:10]})
    return Case("two sheets of data", content, "1 day", "2024-01-01", 120, findings=("sheets",))


@case
def the_sheet_asked_for() -> Case:
    content = workbook({"inflow": SHEET, "other": SHEET[:10]})
    return Case("the sheet that is asked for", content, "1 day", "2024-01-01", 9, silent=("sheets",),
                recipe={"reader": {"sheet": "other"}})  # fmt: skip


@case
def no_such_sheet() -> Case:
    return Case("a sheet that is not there", workbook({"a": SHEET}), recipe={"reader": {"sheet": "b"}},
                refusal="There is no sheet “b”; there are: a")  # fmt: skip


@case
def only_words() -> Case:
    content = workbook({"read me": [("Nothing but words.",)], "and me": [("Nor here.",)]})
    return Case("a workbook of words", content, refusal=r"This workbook file has no rows|No column reads as a time")


@case
def months_across_in_a_workbook() -> Case:
    values = np.array(amounts(48, 21)).reshape(4, 12)
    names = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")
    rows = [("year", *names), *[(2020 + i, *row) for i, row in enumerate(values.tolist())]]
    return Case("months across in a workbook", workbook({"data": rows}), "1 month", "2020-01-01", 48, keys=("value",),
                head=tuple(values[0, :3].tolist()))  # fmt: skip


@case
def clocks_of_twelve_hours_and_a_total() -> Case:
    rows = [(str(t)[:10], t.item().strftime("%I:%M %p"), v) for t, v in
            zip(moments("2024-01-01T00:00", 120, 60), DAILY, strict=True)]  # fmt: skip
    content = table("date,clock,y", rows) + f"Total,,{sum(DAILY):.2f}\n".encode()
    return Case("a date, a clock of twelve hours and a total", content, "1 hour", "2024-01-01", 120,
                roles={"date": "time", "clock": "time"}, findings=("totals row",))  # fmt: skip
