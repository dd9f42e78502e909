"""The command line as the tests call it: `miclane.cli.main` in a process of its own, without importing it each time.

A helper process imports the program once and forks for every call, so that a call costs a tenth of a start.
"""

import atexit
import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path

_HELPER = """
import json, os, sys, traceback
from miclane import cli, serving, upkeep
from miclane.core import process, warm
from miclane.core.findings import report
from miclane.core.mix import chain
from miclane.studio import prints, studio, upkeep
from miclane.web import app
def call(asked):
    for number, place in ((1, asked["out"]), (2, asked["err"])):
        os.dup2(os.open(place, os.O_WRONLY | os.O_CREAT | os.O_TRUNC), number)
    os.environ.clear()
    os.environ.update(asked["env"])
    os.chdir(asked["cwd"])
    sys.argv = ["miclane", *asked["words"]]
    code = 0
    try:
        cli.main()
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else int(end.code is not None)
    except BaseException:
        traceback.print_exc()
        code = 1
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(code)
for line in sys.stdin:
    child = os.fork()
    if child == 0:
        call(json.loads(line))
    print(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]), flush=True)
"""
_running: list[subprocess.Popen[str]] = []


def _helper() -> subprocess.Popen[str]:
    if not _running:
        call = [sys.executable, "-c", _HELPER]
        _running.append(subprocess.Popen(call, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True))
        atexit.register(_running[0].kill)
    return _running[0]


def miclane(*words: object, env: dict[str, str] | None = None) -> subprocess.CompletedProcess[str]:
    """Run a command to its end; what it said, and its exit status."""
    helper = _helper()
    assert helper.stdin is not None
    assert helper.stdout is not None
    with tempfile.TemporaryDirectory() as folder:
        out, err = Path(folder) / "out", Path(folder) / "err"
        asked = {"words": [str(w) for w in words], "out": str(out), "err": str(err), "cwd": str(Path.cwd())}
        helper.stdin.write(json.dumps({**asked, "env": {**os.environ, **(env or {})}}) + "\n")
        helper.stdin.flush()
        code = int(helper.stdout.readline())
        return subprocess.CompletedProcess(asked["words"], code, out.read_text(), err.read_text())
