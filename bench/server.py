"""The demo, served by a process of its own, and a browser that may play sound."""

import re
import shutil
import signal
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

FLAGS = "--no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking --autoplay-policy=no-user-gesture-required"


@contextmanager
def demo(folder: str, port: int) -> Iterator[str]:
    """Address of the demo's first page while it is served from a data folder."""
    call = [sys.executable, "-m", "miclane.cli", "demo", "--data", folder, "--port", str(port)]
    # a session of its own, as in a terminal of its own: what measures takes none of its share of the processors
    server = subprocess.Popen(call, stdout=subprocess.PIPE, text=True, start_new_session=True)
    assert server.stdout is not None
    try:
        for line in server.stdout:
            if address := re.search(r"http://\S+", line):
                yield address[0]
                break
    finally:
        server.send_signal(signal.SIGINT)
        server.wait()


def root(address: str) -> str:
    """An address without its path."""
    return "/".join(address.split("/")[:3])


def browser_path() -> str:
    """Debian's chromium, the one without windows first, installed where it is missing; else an error in words."""
    subprocess.run([Path(__file__).parent.parent / "tools" / "need-chromium"], check=False)
    found = shutil.which("chromium-headless-shell") or shutil.which("chromium")
    if not found:
        sys.exit("bench: there is no chromium to listen with, and tools/need-chromium could not install it")
    return found


@contextmanager
def browser_page(scheme: str = "light") -> Iterator[Page]:
    """A page of 1280 by 800 in a headless browser."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=browser_path(), args=FLAGS.split())
        yield browser.new_page(viewport={"width": 1280, "height": 800}, color_scheme=scheme)  # type: ignore[arg-type]
        browser.close()
