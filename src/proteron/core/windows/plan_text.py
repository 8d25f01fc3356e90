"""A window plan as short text and back: clauses between semicolons, each a word and what belongs to it.

lags 1-24, 48, 168; mean 24, 168; std 24; quantile 0.9 168; hour_of_day; weekday one_hot
difference 1 over 24; weighted mean 12; mean so far; since not 0; waves 8766 x 3
occasion fair within 24; air_temp at 0, -1, -24; district is one_hot shop, office
ahead 1-48; stride 24; missing keep; half_life 500; by scale
"""

import re
from collections.abc import Callable, Iterable
from typing import Any, get_args

from proteron.core.errors import SettingsError
from proteron.core.timeline import CalendarField
from proteron.core.windows.calendar import CalendarCycle
from proteron.core.windows.changes import Change
from proteron.core.windows.covariates import CovariateSteps
from proteron.core.windows.feature import Feature
from proteron.core.windows.flagged import Flagged
from proteron.core.windows.fourier import Fourier
from proteron.core.windows.occasions import OccasionNear
from proteron.core.windows.plan import WindowPlan
from proteron.core.windows.rolling import Rolling, Statistic
from proteron.core.windows.static import Static
from proteron.core.windows.whole_past import Expanding, Since, Weighted

_FIELDS: tuple[str, ...] = get_args(CalendarField)
_LEVELLED = ("quantile", "above", "below")
_STATISTICS = tuple(each for each in get_args(Statistic) if each not in _LEVELLED)
_NUMBER = r"[-+]?\d+(?:\.\d+)?(?:e[-+]?\d+)?"
_NAME = r"(?:“[^”]*”|[^\s,;]+)"
_LONGEST_RUN = 20_000

WORDS = (
    "lags", *_STATISTICS, *_LEVELLED, "difference", "ratio", "log", "weighted mean", "weighted std", "since not",
    "waves", "occasion", "flagged", *_FIELDS, "ahead", "fed back", "stride", "missing", "half_life", "by scale",
)  # fmt: skip


# reading


def read_plan(text: str) -> WindowPlan:
    """The plan that `text` stands for; raises `SettingsError` that quotes the clause it cannot read."""
    found: dict[str, Any] = {"lags": [], "rolling": [], "calendar": [], "covariates": [], "more": []}
    for clause in re.split(r"[;\n]", text):
        clause = " ".join(clause.split())
        if clause:
            _read_clause(clause, found)
    return WindowPlan(**found)


def _read_clause(clause: str, found: dict[str, Any]) -> None:
    for pattern, reader in _READERS:
        match = re.fullmatch(pattern, clause)
        if match:
            try:
                reader(match, found)
            except SettingsError as error:
                raise SettingsError(f"“{clause}”: {error.message}", field="text") from error
            except ValueError as error:
                raise SettingsError(f"“{clause}”: {error}", field="text") from error
            return
    raise SettingsError(
        f"“{clause}” is not a part of a plan, such as “lags 1-24”, “mean 24” or “ahead 1-48”.", field="text"
    )


def _integers(text: str, lowest: int | None = None) -> list[int]:
    """1-24, 48 or +1 … -3: whole numbers and runs of them, in the order they stand."""
    out: list[int] = []
    for part in re.split(r"\s*,\s*", text.strip()):
        match = re.fullmatch(r"([-+]?\d+)(?:\s*(?:-|–|\.\.)\s*([-+]?\d+))?", part)
        if not match:
            raise SettingsError(f"“{part}” is not a whole number or a run such as 1-24.", field="text")
        first, last = int(match[1]), int(match[2] or match[1])
        if abs(last - first) > _LONGEST_RUN:
            raise SettingsError(f"“{part}” is longer than {_LONGEST_RUN:,}.", field="text")
        out += range(first, last + 1) if last >= first else range(first, last - 1, -1)
    if lowest is not None and min(out) < lowest:
        what = "lag 1 is the value at the origin, lag 0 would be the target" if lowest == 1 else f"not below {lowest}"
        raise SettingsError(f"{min(out)} does not go: {what}.", field="text")
    return out


def _plain(name: str) -> str:
    return name[1:-1] if name.startswith("“") else name


def _add(found: dict[str, Any], feature: Feature) -> None:
    found["more"].append(feature)


def _lags(match: re.Match[str], found: dict[str, Any]) -> None:
    found["lags"] = sorted({*found["lags"], *_integers(match[1], 1)})


def _ahead(match: re.Match[str], found: dict[str, Any]) -> None:
    found["horizon"] = sorted(set(_integers(match["steps"], 1)))
    found["recursive"] = bool(match["back"])


def _rolling(match: re.Match[str], found: dict[str, Any]) -> None:
    known = int(match["known"]) if match["known"] else None
    for window in _integers(match["windows"], 1):
        found["rolling"].append(Rolling(match["statistic"], window, least=known))


def _levelled(match: re.Match[str], found: dict[str, Any]) -> None:
    known = int(match["known"]) if match["known"] else None
    for window in _integers(match["windows"], 1):
        found["rolling"].append(Rolling(match["statistic"], window, level=float(match["level"]), least=known))


def _calendar(match: re.Match[str], found: dict[str, Any]) -> None:
    if match["form"]:
        _add(found, CalendarCycle.parse({"field": match["field"], "form": match["form"]}))
    else:
        found["calendar"].append(match["field"])


def _change(match: re.Match[str], found: dict[str, Any]) -> None:
    for over in _integers(match["over"], 1):
        _add(found, Change.parse({"form": match["form"], "lag": int(match["lag"] or 1), "over": over}))


def _weighted(match: re.Match[str], found: dict[str, Any]) -> None:
    for part in match["lives"].split(","):
        _add(found, Weighted.parse({"statistic": match["statistic"], "half_life": float(part)}))


def _since(match: re.Match[str], found: dict[str, Any]) -> None:
    low = float(match["low"])
    band = {"low": low, "high": float(match["high"]) if match["high"] else low}
    _add(found, Since.parse(band | ({"most": int(match["most"])} if match["most"] else {})))


def _flagged(match: re.Match[str], found: dict[str, Any]) -> None:
    given = {name: int(match[name]) for name in ("reach", "delay") if match[name]}
    _add(found, Flagged.parse(given))


def _occasion(match: re.Match[str], found: dict[str, Any]) -> None:
    name = None if match["name"] == "any" else _plain(match["name"])
    _add(found, OccasionNear.parse({"name": name} | ({"reach": int(match["reach"])} if match["reach"] else {})))


def _steps(match: re.Match[str], found: dict[str, Any]) -> None:
    found["covariates"].append(CovariateSteps.parse({"column": _plain(match["name"]), "at": _integers(match["at"])}))


def _static(match: re.Match[str], found: dict[str, Any]) -> None:
    form = "target" if match["form"] == "so far" else match["form"]
    labels = [_plain(each) for each in re.findall(_NAME, match["labels"] or "")]
    _add(found, Static.parse({"column": _plain(match["name"]), "form": form, "labels": labels}))


def _set(name: str, convert: Callable[[str], Any]) -> Callable[[re.Match[str], dict[str, Any]], None]:
    def reader(match: re.Match[str], found: dict[str, Any]) -> None:
        found[name] = convert(match[1])

    return reader


def _by_scale(match: re.Match[str], found: dict[str, Any]) -> None:
    found["by_scale"] = True


_KNOWN = r"(?: of (?P<known>\d+) known)?"
_READERS: tuple[tuple[str, Callable[[re.Match[str], dict[str, Any]], None]], ...] = (
    (r"lags? (.+)", _lags),
    (r"ahead (?P<steps>.+?)(?P<back> fed back)?", _ahead),
    (r"stride (\d+)", _set("stride", int)),
    (r"missing (\w+)", _set("missing", str)),
    (rf"half_life ({_NUMBER})", _set("half_life", float)),
    (r"by scale", _by_scale),
    (r"(?P<statistic>mean|std|min|max|count) so far", lambda m, f: _add(f, Expanding.parse({"statistic": m[1]}))),
    (rf"weighted (?P<statistic>mean|std) (?P<lives>{_NUMBER}(?: ?, ?{_NUMBER})*)", _weighted),
    (rf"(?P<statistic>{'|'.join(_LEVELLED)}) (?P<level>{_NUMBER}) (?P<windows>.+?){_KNOWN}", _levelled),
    (rf"(?P<statistic>{'|'.join(_STATISTICS)}) (?P<windows>.+?){_KNOWN}", _rolling),
    (r"(?P<form>difference|ratio|log)(?: (?P<lag>\d+))? over (?P<over>.+)", _change),
    (rf"since not (?P<low>{_NUMBER})(?: ?\.\. ?(?P<high>{_NUMBER}))?(?: within (?P<most>\d+))?", _since),
    (rf"waves ({_NUMBER})(?: x (\d+))?",
     lambda m, f: _add(f, Fourier.parse({"period": float(m[1]), "order": int(m[2] or 1)}))),
    (r"flagged within (?P<reach>\d+)(?: after (?P<delay>\d+))?", _flagged),
    (rf"occasion (?P<name>{_NAME})(?: within (?P<reach>\d+))?", _occasion),
    (rf"(?P<field>{'|'.join(_FIELDS)})(?: (?P<form>cycle|number|one_hot))?", _calendar),
    (rf"(?P<name>{_NAME}) at (?P<at>.+)", _steps),
    (rf"(?P<name>{_NAME}) is (?P<form>number|so far|one_hot)(?: (?P<labels>.+))?", _static),
)  # fmt: skip


# writing


def write_plan(plan: WindowPlan) -> str:
    """The text that `read_plan` reads as this plan (a static's own doubt is the one thing it cannot say)."""
    clauses = [f"lags {_runs(sorted(plan.lags))}"] if plan.lags else []
    clauses += _write_rolling(plan.rolling)
    clauses += list(plan.calendar)
    clauses += [f"{_quoted(each.column)} at {', '.join(f'{step:+d}' if step else '0' for step in each.at)}"
                for each in plan.covariates]  # fmt: skip
    clauses += [_write_feature(feature) for feature in plan.more]
    clauses.append(f"ahead {_runs(sorted(plan.horizon))}{' fed back' if plan.recursive else ''}")
    clauses += [f"stride {plan.stride}"] if plan.stride != 1 else []
    clauses += [f"missing {plan.missing}"] if plan.missing != "drop" else []
    clauses += [f"half_life {plan.half_life:.15g}"] if plan.half_life is not None else []
    return "; ".join([*clauses, *(["by scale"] if plan.by_scale else [])])


def _runs(numbers: Iterable[int]) -> str:
    """Sorted numbers as runs: 1-24, 48."""
    parts: list[list[int]] = []
    for number in numbers:
        if parts and number == parts[-1][-1] + 1:
            parts[-1].append(number)
        else:
            parts.append([number])
    return ", ".join(
        f"{run[0]}-{run[-1]}" if len(run) > 2 else ", ".join(str(number) for number in run) for run in parts
    )


def _write_rolling(rolling: Iterable[Rolling]) -> list[str]:
    """Neighbours with the same statistic share a clause."""
    groups: list[tuple[str, list[int], str]] = []
    for each in rolling:
        head = each.statistic if each.level is None else f"{each.statistic} {each.level:.15g}"
        tail = "" if each.least is None else f" of {each.least} known"
        if groups and groups[-1][0] == head and groups[-1][2] == tail:
            groups[-1][1].append(each.window)
        else:
            groups.append((head, [each.window], tail))
    return [f"{head} {', '.join(map(str, windows))}{tail}" for head, windows, tail in groups]


def _quoted(name: str) -> str:
    """A name as it is, or in quotation marks where it would be read as something else."""
    plain = re.fullmatch(r"[^\s,;“”]+", name) and name not in ("any", "so", "weighted", *WORDS)
    return name if plain else f"“{name}”"


def _write_feature(feature: Feature) -> str:
    if isinstance(feature, CalendarCycle):
        return f"{feature.field} {feature.form}"
    if isinstance(feature, Change):
        return f"{feature.form} {feature.lag} over {feature.over}"
    if isinstance(feature, Weighted):
        return f"weighted {feature.statistic} {feature.half_life:.15g}"
    if isinstance(feature, Expanding):
        return f"{feature.statistic} so far"
    if isinstance(feature, Since):
        band = f"{feature.low:.15g}" + ("" if feature.low == feature.high else f" .. {feature.high:.15g}")
        return f"since not {band} within {feature.most}"
    if isinstance(feature, Fourier):
        return f"waves {feature.period:.15g} x {feature.order}"
    if isinstance(feature, OccasionNear):
        return f"occasion {'any' if feature.name is None else _quoted(feature.name)} within {feature.reach}"
    if isinstance(feature, Flagged):
        return f"flagged within {feature.reach} after {feature.delay}"
    assert isinstance(feature, Static)
    labels = " ".join(["", ", ".join(_quoted(label) for label in feature.labels)]) if feature.labels else ""
    return f"{_quoted(feature.column)} is {'so far' if feature.form == 'target' else feature.form}{labels}"
