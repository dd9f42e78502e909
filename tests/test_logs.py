"""The logger: set up when there is first something to log, into the data folder; a start does not load it."""

import json
import subprocess
import sys
from pathlib import Path

from miclane.logs import Log

STARTED = """
import sys
from pathlib import Path
from miclane.studio.logging import begin_logging
from miclane.web.app import create_app
create_app(Path(sys.argv[1]))
begin_logging(Path(sys.argv[1]), terminal=False)
assert not {"structlog", "rich"} & set(sys.modules), "loaded before there is anything to log"
from miclane.logs import log
log.info("begun", words="ja, ähnlich")
try:
    raise ValueError("lost")
except ValueError:
    log.exception("fault", path="/s/x")
sys.stdout.flush()
import os
os._exit(0)
"""


def test_it_is_set_up_once_and_anew_when_told_otherwise() -> None:
    log, done = Log(), []
    log.set_up(lambda: done.append("first"))
    assert done == []
    log.debug("a")
    log.debug("b")
    assert done == ["first"]
    log.set_up(lambda: done.append("second"))
    log.debug("c")
    assert done == ["first", "second"]


def test_a_start_does_without_it_and_what_is_logged_is_a_line_of_json(tmp_path: Path) -> None:
    run = subprocess.run([sys.executable, "-c", STARTED, tmp_path], capture_output=True, text=True, check=False)
    assert run.returncode == 0, run.stderr
    begun, fault = map(json.loads, (tmp_path / "logs" / "miclane.log").read_text().splitlines())
    assert (begun["event"], begun["level"], begun["words"]) == ("begun", "info", "ja, ähnlich")
    assert "ValueError: lost" in fault["exception"]
