"""The servers' own log: one line an event, and tracebacks without the values of variables, which may be secrets."""

from __future__ import annotations

import structlog


def quiet_log() -> None:
    """Log to standard output from now on, as the web server and the worker do."""
    structlog.configure(
        processors=[
            structlog.contextvars.merge_contextvars,
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="%Y-%m-%d %H:%M:%S", utc=True),
            structlog.dev.ConsoleRenderer(colors=False, exception_formatter=structlog.dev.plain_traceback),
        ],
        logger_factory=structlog.WriteLoggerFactory(),
    )
