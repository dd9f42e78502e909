"""The log: to a rotating file in the data folder, and briefly to the terminal. It holds no words of songs."""

import logging
import logging.handlers
import sys
from pathlib import Path

import structlog

_BYTES, _FILES = 1_000_000, 5
_SHARED: list[structlog.types.Processor] = [
    structlog.contextvars.merge_contextvars,
    structlog.processors.add_log_level,
    structlog.processors.TimeStamper("iso", utc=True),
]


def begin_logging(data: Path, terminal: bool = True) -> None:
    """Log to `data/logs/miclane.log`, a line of JSON each, and warnings to standard error."""
    folder = data / "logs"
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    file = logging.handlers.RotatingFileHandler(
        folder / "miclane.log", maxBytes=_BYTES, backupCount=_FILES, encoding="utf-8"
    )
    file.setFormatter(_formatter(structlog.processors.JSONRenderer(ensure_ascii=False), traceback=True))
    handlers: list[logging.Handler] = [file]
    if terminal:
        brief = logging.StreamHandler(sys.stderr)
        brief.setLevel(logging.WARNING)
        brief.setFormatter(_formatter(_one_line))
        handlers.append(brief)
    root = logging.getLogger("miclane")
    for old in list(root.handlers):
        root.removeHandler(old)
        old.close()
    root.setLevel(logging.INFO)
    root.propagate = False
    for handler in handlers:
        root.addHandler(handler)
    structlog.configure(
        processors=[*_SHARED, structlog.stdlib.ProcessorFormatter.wrap_for_formatter],
        logger_factory=lambda *_: logging.getLogger("miclane"),
        wrapper_class=structlog.stdlib.BoundLogger,
        cache_logger_on_first_use=False,
    )


def _formatter(renderer: structlog.types.Processor, traceback: bool = False) -> logging.Formatter:
    steps: list[structlog.types.Processor] = [structlog.stdlib.ProcessorFormatter.remove_processors_meta]
    steps += [structlog.processors.format_exc_info] if traceback else []
    return structlog.stdlib.ProcessorFormatter(processors=[*steps, renderer], foreign_pre_chain=_SHARED)


def _one_line(_: object, __: str, event: structlog.types.EventDict) -> str:
    more = " ".join(f"{k}={v}" for k, v in event.items() if k not in ("event", "level", "timestamp", "exc_info"))
    return f"miclane: {event['level']}: {event['event']} {more}".rstrip()
