"""Tasks handed out: over the cores of this machine, or to a Dask scheduler that is there already."""

import logging
import multiprocessing
import signal
import time
from abc import ABC, abstractmethod
from collections import Counter, deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from secrets import token_hex
from typing import Any

from ..core.errors import MicLaneError, UnusableDataError
from ..store.files import write_whole
from .tasks import Task, run_bytes, run_task

MOST_TRIES = 3
MOST_SENDINGS = 8
_POLL_S = 0.02


class Call(ABC):
    """Work for a cluster, counted each time that it is handed out."""

    tries: int = 0

    @property
    @abstractmethod
    def name(self) -> str:
        """What it is called in words."""

    @property
    @abstractmethod
    def sounds(self) -> list[tuple[str, Path]]:
        """The sounds that it needs with their hashes, in the order in which the work takes their bytes."""

    @property
    @abstractmethod
    def work(self) -> tuple[Callable[..., Any], Any]:
        """What is called by a worker, and with what, before the bytes of the sounds."""

    @abstractmethod
    def take(self, result: Any) -> Any:
        """Keep what the work gave; what is told of it."""


@dataclass
class Job(Call):
    """A task with the files it is about."""

    task: Task
    source: Path
    music: Path | None
    to: Path
    tries: int = 0

    @property
    def name(self) -> str:
        return self.task.name

    @property
    def sounds(self) -> list[tuple[str, Path]]:
        return [(self.task.digest, self.source), *([(self.task.music, self.music)] if self.music else [])]

    @property
    def work(self) -> tuple[Callable[..., Any], Any]:
        return run_bytes, self.task

    def take(self, result: tuple[dict[str, Any], bytes]) -> dict[str, Any]:
        figures, made = result
        write_whole(self.to, made)
        return figures


Done = Callable[[Job, dict[str, Any]], None]
Bad = Callable[[Job, str], None]


def run_here(jobs: Iterable[Job], workers: int, done: Done, bad: Bad) -> None:
    """Over processes of this machine. A file that cannot be used is told as `bad`, as one that ends its process twice;
    the others go on."""
    left = deque(jobs)
    alone: deque[Job] = deque()  # were under way when a process ended: one of them did it
    while left or alone:
        one = [alone.popleft()] if alone else None
        batch = deque(one) if one else left
        context = multiprocessing.get_context("spawn")
        with ProcessPoolExecutor(1 if one else workers, context, initializer=_quiet) as pool:
            under_way: dict[Future[dict[str, Any]], Job] = {}
            try:
                while batch or under_way:
                    while batch and len(under_way) < 2 * workers:
                        job = batch.popleft()
                        job.tries += 1
                        under_way[pool.submit(run_task, job.task, job.source, job.to, job.music)] = job
                    for future in wait(under_way, return_when=FIRST_COMPLETED).done:
                        job = under_way[future]
                        _take(future, job, done, bad)
                        del under_way[future]
            except BrokenProcessPool:
                for job in under_way.values():
                    if job.tries < 2:
                        alone.append(job)
                    else:
                        bad(job, "it ends the process that works on it")
            except BaseException:
                pool.shutdown(wait=False, cancel_futures=True)
                for process in list((getattr(pool, "_processes", None) or {}).values()):
                    process.kill()
                raise


def _quiet() -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the one that was asked tells the others


def _take(future: Future[dict[str, Any]], job: Job, done: Done, bad: Bad) -> None:
    try:
        figures = future.result()
    except BrokenProcessPool:
        raise
    except MicLaneError as error:
        bad(job, str(error))
    except OSError as error:
        bad(job, f"{job.task.name}: {error.strerror or error}")
    except Exception as error:
        bad(job, f"{job.task.name}: failed by a fault of Mic Lane's own ({type(error).__name__}: {error})")
    else:
        done(job, figures)


def run_on_cluster(jobs: Iterable[Job], address: str, done: Done, bad: Bad) -> None:
    """By the workers of a Dask scheduler. Sounds travel by their hash, once to each worker that wants them; the task of
    a worker that dies is done by another.

    UnusableDataError where there is no scheduler, where it goes away, or Dask is not installed.
    """
    with connected(address) as client:
        hand_out(client, deque(jobs), done, bad)


@contextmanager
def connected(address: str) -> Iterator[Any]:
    """A client of the scheduler, which has a worker. UnusableDataError as of `run_on_cluster`."""
    try:
        from distributed import Client
    except ImportError as error:
        raise UnusableDataError("--cluster needs Dask: pip install '.[cluster]' where Mic Lane was cloned") from error
    for name in [n for n in logging.root.manager.loggerDict if n.partition(".")[0] in ("distributed", "tornado")]:
        logging.getLogger(name).setLevel(logging.CRITICAL)  # what goes wrong is said here, in words
    try:
        client: Any = Client(address, timeout=10)  # type: ignore[no-untyped-call]
    except (OSError, ValueError, TimeoutError) as error:
        raise UnusableDataError(f"{address}: no Dask scheduler answers there") from error
    with client:
        if not client.scheduler_info().get("workers"):
            client.wait_for_workers(1, timeout=60)
        try:
            yield client
        except _GoneError as error:
            raise UnusableDataError(
                f"{address}: the scheduler went away; the same command goes on from here"
            ) from error


class _GoneError(Exception):
    """No scheduler any more."""


def hand_out(client: Any, left: deque[Any], done: Callable[[Any, Any], None], bad: Callable[[Any, str], None]) -> None:
    """Have the workers do all of these calls: `done` of each with what is told of it, or `bad` with why not."""
    sent: dict[str, Any] = {}
    wanted = Counter(digest for call in left for digest, _ in call.sounds)
    under_way: dict[Any, Call] = {}
    while left or under_way:
        width = 2 * max(1, _threads(client))
        while left and len(under_way) < width:
            call: Call = left.popleft()
            call.tries += 1
            try:
                data = [_sent(client, sent, digest, path) for digest, path in call.sounds]
            except UnusableDataError as error:
                bad(call, f"{call.name}: {error}")
                continue
            do, task = call.work
            under_way[client.submit(do, task, *data, key=f"miclane-{token_hex(8)}", pure=False)] = call
        if not under_way:
            continue
        for future in _first_of(list(under_way)):
            call = under_way.pop(future)
            try:
                done(call, call.take(future.result()))
            except MicLaneError as error:
                bad(call, str(error))
            except Exception as error:
                _still_there(client)
                lost = future.status in ("lost", "cancelled") or type(error).__name__ in _LOST
                if lost and call.tries < MOST_TRIES:
                    for digest, _ in call.sounds:
                        sent.pop(digest, None)
                    left.appendleft(call)
                    continue
                bad(call, f"{call.name}: {type(error).__name__}: {error}")
            for digest, _ in call.sounds:
                wanted[digest] -= 1
                if not wanted[digest]:
                    sent.pop(digest, None)  # nobody wants it any more: its workers may forget it


def _still_there(client: Any) -> None:
    if client.status != "running":
        raise _GoneError


def _threads(client: Any) -> int:
    try:
        return sum(client.nthreads().values())
    except (OSError, TimeoutError) as error:
        raise _GoneError from error


def _first_of(futures: list[Any]) -> list[Any]:
    """Those that are no longer under way, once there are any. (`distributed.wait` gives none where one was lost.)"""
    while not (found := [f for f in futures if f.status != "pending"]):
        time.sleep(_POLL_S)
    return found


_LOST = ("KilledWorker", "FutureCancelledError", "CancelledError", "CommClosedError", "FuturesCancelledError")


def _sent(client: Any, sent: dict[str, Any], digest: str, path: Path) -> Any:
    """A sound on the cluster, sent unless it is there: to another worker where the one that was to have it dies.

    UnusableDataError where the file cannot be read, or no worker takes it.
    """
    if digest in sent:
        return sent[digest]
    try:
        data = path.read_bytes()
    except OSError as error:
        raise UnusableDataError(error.strerror or str(error)) from error
    key = f"miclane-sound-{digest}-{token_hex(8)}"  # that another of this name is let go of meanwhile must not take it
    for attempt in range(MOST_SENDINGS):
        try:
            sent[digest] = client.scatter({key: data})[key]
            return sent[digest]
        except (OSError, TimeoutError):  # the line to a worker broke: the scheduler soon knows that it is gone
            _still_there(client)
            time.sleep(min(1.0, 0.1 * 2**attempt))
    raise UnusableDataError("no worker of the cluster takes its sound")
