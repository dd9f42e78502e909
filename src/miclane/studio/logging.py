"""The log: to a rotating file in the data folder, and briefly to the terminal. It holds no words of songs."""

import logging
import logging.handlers
import sys
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from ..logs import log

if TYPE_CHECKING:
    from structlog.types import EventDict, Processor

_BYTES, _FILES = 1_000_000, 5


def begin_logging(data: Path, terminal: bool = True) -> None:
    """Log to `data/logs/miclane.log`, a line of JSON each, and warnings to standard error."""
    folder = data / "logs"
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    file = logging.handlers.RotatingFileHandler(
        folder / "miclane.log", maxBytes=_BYTES, backupCount=_FILES, encoding="utf-8"
    )
    brief = logging.StreamHandler(sys.stderr)
    brief.setLevel(logging.WARNING)
    handlers: list[logging.Handler] = [file, brief] if terminal else [file]
    root = logging.getLogger("miclane")
    for old in list(root.handlers):
        root.removeHandler(old)
        old.close()
    root.setLevel(logging.INFO)
    root.propagate = False
    for handler in handlers:
        root.addHandler(handler)
    log.set_up(partial(_configure, file, brief))


def _configure(file: logging.Handler, brief: logging.Handler) -> None:
    import structlog
    from structlog.stdlib import ProcessorFormatter

    shared: list[Processor] = [
        structlog.contextvars.merge_contextvars,
        structlog.processors.add_log_level,
        structlog.processors.TimeStamper("iso", utc=True),
    ]

    def formatter(*last: "Processor") -> logging.Formatter:
        return ProcessorFormatter(
            processors=[ProcessorFormatter.remove_processors_meta, *last], foreign_pre_chain=shared
        )

    as_json = structlog.processors.JSONRenderer(ensure_ascii=False)
    file.setFormatter(formatter(structlog.processors.format_exc_info, as_json))
    brief.setFormatter(formatter(_one_line))
    structlog.configure(
        processors=[*shared, ProcessorFormatter.wrap_for_formatter],
        logger_factory=lambda *_: logging.getLogger("miclane"),
        wrapper_class=structlog.stdlib.BoundLogger,
        cache_logger_on_first_use=False,
    )


def _one_line(_: object, __: str, event: "EventDict") -> str:
    more = " ".join(f"{k}={v}" for k, v in event.items() if k not in ("event", "level", "timestamp", "exc_info"))
    return f"miclane: {event['level']}: {event['event']} {more}".rstrip()
