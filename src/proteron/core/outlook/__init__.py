"""Outlook: the final forecast with ranges that were earned out of sample."""

from proteron.core.outlook.ahead import Ahead, continued, with_future
from proteron.core.outlook.outlook import outlook, walk_forward_errors

__all__ = ["Ahead", "continued", "outlook", "walk_forward_errors", "with_future"]
