"""How processes log: a line per event, tracebacks without the values of variables, which may be secrets."""

import structlog


def configure_logs() -> None:
    """Call once at the start of a process that logs."""
    structlog.configure(
        logger_factory=structlog.PrintLoggerFactory(),
        processors=[
            structlog.contextvars.merge_contextvars,
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="%Y-%m-%d %H:%M:%S", utc=False),
            structlog.dev.ConsoleRenderer(colors=False, exception_formatter=structlog.dev.plain_traceback),
        ],
    )
