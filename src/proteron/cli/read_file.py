"""How the command line reads a file: as the room does, with the same findings, roles, step, events and recipe."""

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, get_args

from proteron.core.errors import InputError, SettingsError
from proteron.core.intake import EXPORTS, Recipe, TableReading, read_table, write_panel
from proteron.core.intake.recipe import Aggregate


@dataclass(frozen=True)
class Asked:
    """What was said on the command line about a file; nothing said is found out."""

    recipe: Path | None = None
    roles: tuple[str, ...] = ()
    step: str | None = None
    zone: str | None = None
    unit: str | None = None
    events: str | None = None
    remedies: tuple[str, ...] = ()

    def read(self, file: Path) -> TableReading:
        """Read the file; raises a `ProteronError` that names what does not go."""
        document = _document(self.recipe)
        if self.events is not None:
            document["events"] = {**(document.get("events") or {}), **_events(self.events)}
        document["remedies"] = {**document.get("remedies", {}), **_pairs(self.remedies, "remedy")}
        roles = _pairs(self.roles, "role")
        recipe = Recipe.parse(document)
        return read_table(file, roles or None, self.step, self.zone, self.unit, recipe=recipe)  # type: ignore[arg-type]


def _document(path: Path | None) -> dict[str, Any]:
    """A recipe, or an account that holds one, as written by an earlier reading."""
    if path is None:
        return {}
    try:
        found = json.loads(path.read_text("utf-8"))
    except OSError as error:
        raise InputError(f"{path} cannot be read: {error.strerror}.", field="recipe") from error
    except ValueError as error:
        raise InputError(f"{path.name} is not JSON: {error}.", field="recipe") from error
    if not isinstance(found, dict):
        raise InputError(f"{path.name} holds no recipe.", field="recipe")
    return dict(found.get("recipe", found))


def _pairs(given: Sequence[str], what: str) -> dict[str, str]:
    """“column=role” as a mapping; the last “=” parts them, since names may hold one."""
    pairs = {}
    for text in given:
        name, mark, value = text.rpartition("=")
        if not mark or not name or not value:
            raise SettingsError(f"“{text}” is not a {what} such as NAME=VALUE.", field=what)
        pairs[name] = value
    return pairs


def _events(text: str) -> Mapping[str, str]:
    """“1 hour” or “1 hour sum”: the step that events are bucketed to, and how."""
    words = text.split()
    if words and words[-1] in get_args(Aggregate):
        return {"step": " ".join(words[:-1]), "aggregate": words[-1]}
    return {"step": text}


def said_of(reading: TableReading) -> list[str]:
    """What was found and done, line by line: the panel, roles, findings with the remedy in force."""
    lines = [repr(reading.panel), ""]
    lines += [f"  {name}: {role.replace('_', ' ')}" for name, role in reading.account["roles"].items()]
    for finding in reading.findings:
        mark = {"error": "!", "warning": "·", "note": " "}[finding.severity]
        lines += ["", f"{mark} {finding.id}: {finding.message}"]
        if finding.remedies:
            ways = ", ".join(f"{each.name} ({each.label})" for each in finding.remedies)
            chosen = "" if finding.settled else " – not settled"
            lines.append(f"    done: {finding.chosen}{chosen}; there are: {ways}")
    return lines


def read_file(file: Path, out: Path | None, account: Path | None, asked: Asked) -> list[str]:
    """Read, write the dataset to `out` and the account to `account` where asked, and say what was found.

    Raises `SettingsError` before anything is read where `out` has an ending that no format has.
    """
    kind = _format_of(out)
    reading = asked.read(file)
    if out is not None and kind is not None:
        part = out.with_name(out.name + ".part")
        try:
            write_panel(reading.panel, part, kind)
            part.replace(out)
        finally:
            part.unlink(missing_ok=True)
    if account is not None:
        account.write_text(json.dumps(reading.account, indent=1, ensure_ascii=False) + "\n", "utf-8")
    return said_of(reading)


def _format_of(out: Path | None) -> str | None:
    if out is None:
        return None
    kind = out.suffix.removeprefix(".").lower()
    if kind not in EXPORTS:
        raise SettingsError(f"“{out.name}” ends in none of {', '.join(f'.{each}' for each in EXPORTS)}.", field="out")
    return kind
