"""Measuring takes in a process of its own, so that it never holds up what is heard.

`python -m miclane.core.measure.alone` reads requests from standard input and answers each with one line of JSON on
standard output: a line of JSON {"rate", "channels", "frames", "known"} followed by the frames as float64, channel after
channel. `known` is an earlier answer or null. It ends when its input does, and with the process that started it.
"""

import json
import os
import select
import subprocess
import sys
import threading
from collections.abc import Callable
from typing import Any, BinaryIO

import numpy as np
from pydantic import TypeAdapter

from ..errors import CancelledError, MicLaneError
from .take import Take, measure_take

TAKE: TypeAdapter[Take] = TypeAdapter(Take)


class Measurer:
    """Asks the worker, which is started with the first question. Safe to use from several threads."""

    def __init__(self) -> None:
        self._lock, self._starting = threading.Lock(), threading.Lock()
        self._worker: subprocess.Popen[bytes] | None = None
        self._closed = False

    def measure(
        self, audio: np.ndarray, rate: int, known: Take | None = None, check: Callable[[], None] = lambda: None
    ) -> Take:
        """As `measure_take`; MicLaneError when the worker fails twice. `check` is called meanwhile, and may give up.

        CancelledError once it is closed, also when that happens while it measures.
        """
        header = {
            "rate": rate,
            "channels": audio.shape[0],
            "frames": audio.shape[1],
            "known": TAKE.dump_python(known, mode="json") if known else None,
        }
        frames = np.ascontiguousarray(audio, dtype=np.float64)
        while not self._lock.acquire(timeout=0.1):
            check()
        try:
            for _ in range(2):
                try:
                    return self._ask(header, frames, check)
                except (OSError, ValueError, AssertionError):
                    self._end_worker()
                except BaseException:  # given up: what it is at is of no more use
                    self._end_worker()
                    raise
        finally:
            self._lock.release()
        raise MicLaneError("the take could not be measured; try again")

    def _ask(self, header: dict[str, Any], frames: np.ndarray, check: Callable[[], None]) -> Take:
        worker = self._running()
        assert worker.stdin is not None and worker.stdout is not None
        worker.stdin.write(json.dumps(header).encode() + b"\n")
        worker.stdin.write(frames.data)
        worker.stdin.flush()
        while not select.select([worker.stdout], [], [], 0.1)[0]:
            check()
        answer = worker.stdout.readline()
        if not answer:
            raise ValueError("the worker has ended")
        return TAKE.validate_json(answer)

    def _running(self) -> "subprocess.Popen[bytes]":
        with self._starting:
            if self._closed:
                raise CancelledError("nothing is measured any more")
            if self._worker is None or self._worker.poll() is not None:
                command = [sys.executable, "-m", "miclane.core.measure.alone", str(os.getpid())]
                self._worker = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE)
            return self._worker

    def close(self) -> None:
        """End the worker, and start no other."""
        self._closed = True
        self._end_worker()

    def _end_worker(self) -> None:
        with self._starting:
            if self._worker is not None:
                self._worker.kill()
                self._worker.wait()
                self._worker = None


def serve(requests: BinaryIO, answers: BinaryIO) -> None:
    """Answer `requests` until they end; one that ends half-way is nobody's any more."""
    _give_way()
    while line := requests.readline():
        header = json.loads(line)
        shape = header["channels"], header["frames"]
        data = requests.read(8 * shape[0] * shape[1])
        if len(data) < 8 * shape[0] * shape[1]:
            return
        audio = np.frombuffer(data).reshape(shape)
        known = TAKE.validate_python(header["known"]) if header["known"] else None
        answers.write(TAKE.dump_json(measure_take(audio, header["rate"], known)) + b"\n")
        answers.flush()


def _give_way() -> None:
    """Take only the time that nobody else wants, where the system knows how, unless the environment asks not to."""
    if os.environ.get("MICLANE_MEASURE") == "at-once":
        return
    if hasattr(os, "SCHED_IDLE"):
        os.sched_setscheduler(0, os.SCHED_IDLE, os.sched_param(0))
    else:
        os.nice(10)
