"""Fewer of the attacks that `make bench ARGS=attack` makes by the thousand: nothing is lost, nothing hangs, no 500."""

import json
import subprocess
import sys
from pathlib import Path

import pytest
from bench.attack import fuzz_files, fuzz_requests, resident_mb, routes_of
from starlette.testclient import TestClient

from conftest import seeded
from miclane.web.app import close_app, create_app

ROOT = Path(__file__).parent.parent


@pytest.fixture
def app(tmp_path: Path):
    made = create_app(tmp_path / "data", frozenset({"testserver"}))
    seeded(made.state.studio)
    yield made
    made.state.printer.close(20)
    close_app(made)


def test_requests_that_nobody_would_send(app) -> None:
    routes = routes_of(app)
    assert len(routes) > 40
    web = TestClient(app, raise_server_exceptions=False)
    seen = fuzz_requests(web, routes, 300, longest_s=120)  # other tests run beside this one
    assert seen[200] > 20
    assert seen[422] + seen[404] > 60


def test_files_that_are_damaged(app, tmp_path: Path) -> None:
    web = TestClient(app, raise_server_exceptions=False)
    begun = resident_mb()
    seen = fuzz_files(web, "salt-ferry", "lead", tmp_path, 120, longest_s=120)
    assert seen[422] > 20
    assert resident_mb() - begun < 400


def test_killed_at_any_moment_nothing_acknowledged_is_lost(tmp_path: Path) -> None:
    call = [sys.executable, "-m", "bench.attack", str(tmp_path / "data"), "30"]
    done = subprocess.run(call, capture_output=True, text=True, cwd=ROOT)
    assert done.returncode == 0, done.stderr[-2000:]
    told = json.loads(done.stdout.splitlines()[-1])
    assert told["kills"] == 30
    for what in ("edit", "digest", "print", "backup"):
        assert told[what] >= 1  # of thirty kills; about 25 of each in the mean, 170 edits
