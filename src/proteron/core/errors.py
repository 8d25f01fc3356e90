"""Errors meant for people: what happened, where, and what to do next."""


class ProteronError(Exception):
    """A problem a person can understand and mend.

    `code` is stable and machine-readable; `field` names the setting or column concerned.
    """

    code = "problem"

    def __init__(self, message: str, *, field: str | None = None) -> None:
        super().__init__(message)
        self.message = message
        self.field = field


class InputError(ProteronError):
    """The data brought in cannot be read or used as asked."""

    code = "input"


class UnsettledWarning(UserWarning):
    """Something in the data could be read in several ways, and one was taken without being chosen."""


class DeclinedWarning(UserWarning):
    """A series that a forecaster declined to learn from, and why: it has no forecast."""


class SettingsError(ProteronError):
    """A setting is out of its bounds or does not fit the data."""

    code = "settings"


class TooShortError(ProteronError):
    """There are not enough known points for what was asked."""

    code = "too_short"


class UnitsError(ProteronError):
    """The values lie outside what a transform can take."""

    code = "units"


class OutdatedError(ProteronError):
    """Something was kept by an earlier version in a form that cannot be read any more."""

    code = "outdated"


class StoppedError(ProteronError):
    """The work was stopped on request; what was finished is kept."""

    code = "stopped"


class LimitError(ProteronError):
    """A configured limit was exceeded; the message says which."""

    code = "limit"
