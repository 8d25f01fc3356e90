"""Outlook: the final forecast with ranges that were earned out of sample."""

from proteron.core.outlook.outlook import outlook, walk_forward_errors

__all__ = ["outlook", "walk_forward_errors"]
