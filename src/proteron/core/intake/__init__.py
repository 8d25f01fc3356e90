"""Intake: from delimited text to a panel, with reasons and findings."""

from proteron.core.intake.delimited import Limits, RawTable, read_delimited
from proteron.core.intake.reading import Finding, TableReading, build_panel, read_panel, read_table, settle_roles
from proteron.core.intake.roles import ROLES, Role, RoleGuess, guess_roles

__all__ = [
    "ROLES", "Finding", "Limits", "RawTable", "Role", "RoleGuess", "TableReading", "build_panel", "guess_roles",
    "read_delimited", "read_panel", "read_table", "settle_roles",
]  # fmt: skip
