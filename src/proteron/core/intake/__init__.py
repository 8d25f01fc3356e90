"""Intake: from files that lie to a panel one can trust, with findings and an account of what was done."""

from proteron.core.intake.editing import Comparison, Edit, compare_panels, edit_panel
from proteron.core.intake.exports import EXPORTS, recipe_of, write_panel
from proteron.core.intake.findings import Finding, Remedy
from proteron.core.intake.limits import Limits, Source
from proteron.core.intake.occasions import read_calendar
from proteron.core.intake.raw import RawTable, ReaderSettings
from proteron.core.intake.reading import (
    TableReading,
    compare_accounts,
    read_panel,
    read_recipe,
    read_table,
    settle_roles,
    understood,
)
from proteron.core.intake.recipe import Recipe
from proteron.core.intake.roles import ROLES, Role, RoleGuess, guess_roles
from proteron.core.intake.sources import read_raw

__all__ = [
    "EXPORTS", "ROLES", "Comparison", "Edit", "Finding", "Limits", "RawTable", "ReaderSettings", "Recipe", "Remedy",
    "Role", "RoleGuess", "Source", "TableReading", "compare_accounts", "compare_panels", "edit_panel", "guess_roles",
    "read_calendar", "read_panel", "read_raw", "read_recipe", "read_table", "recipe_of", "settle_roles", "understood",
    "write_panel",
]  # fmt: skip
