"""The command that sends many files through one chain, or prints all sessions of a data folder."""

import csv
import hashlib
import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from .core.errors import MicLaneError, UnusableChainError, UnusableDataError
from .options import Data, default_data

if TYPE_CHECKING:  # loaded when wanted: other commands need none of it
    from .batch.running import Job

_SHOWN = (("lufs", "LUFS", 1), ("true_peak_dbtp", "dBTP", 1), ("range_lu", "LU range", 1), ("sibilance_db", "s, dB", 1),
          ("noise_dbfs", "noise dBFS", 1), ("clarity", "clarity", 2))  # fmt: skip
_FORMATS = ("wav-32", "wav-24", "wav-16", "flac-24", "flac-16", "ogg")


def add_to(app: typer.Typer) -> None:
    """Add the command."""
    app.command()(batch)


def batch(
    folder: Annotated[Path, typer.Argument(help="A folder of sound files; with --print a data folder.")],
    out: Annotated[Path, typer.Option(help="Folder to write to; a batch that was interrupted goes on there.")],
    chain: Annotated[str, typer.Option(help="A chain file, or the name of a chain that is kept.")] = "",
    print_: Annotated[bool, typer.Option("--print", help="Print the mix of every session of a data folder.")] = False,
    measured: Annotated[bool, typer.Option(help="Measure starting points for each take.")] = False,
    music: Annotated[Path | None, typer.Option(help="Folder of what is heard with each, under the same names.")] = None,
    format: Annotated[str, typer.Option(help="wav-32, wav-24, wav-16, flac-24, flac-16 or ogg.")] = "wav-24",
    workers: Annotated[int, typer.Option(min=0, max=256, help="Processes; by default one for each core.")] = 0,
    cluster: Annotated[str, typer.Option(help="Address of a Dask scheduler that does the work.")] = "",
    report: Annotated[Path | None, typer.Option(help="Write the table there, as CSV.")] = None,
    data: Data = None,
) -> None:
    """Many files through one chain. Exit status 1 where some could not be used; they are named, the others are made."""
    if not folder.is_dir():
        raise UnusableDataError(f"{folder}: there is no such folder")
    if format not in _FORMATS:
        raise UnusableChainError(f"--format {format}: must be one of {', '.join(_FORMATS)}")
    idle = {"--chain": chain, "--measured": measured, "--music": music, "--workers": workers, "--cluster": cluster}
    if print_ and (given := [name for name, value in idle.items() if value]):
        raise UnusableChainError(f"--print prints sessions as they are, on this machine: {', '.join(given)} has no say")
    if print_:
        rows = _print_all(folder, out, format)
    else:
        rows = _process_all(folder, out, chain, measured, music, format, workers, cluster, data)
    if report is not None:
        _write(report, rows)
    _show(rows)
    if any(row["problem"] for row in rows):
        sys.exit(1)


def _process_all(
    folder: Path, out: Path, chain: str, measured: bool, music: Path | None, format: str, workers: int, cluster: str,
    data: Path | None,
) -> list[dict[str, Any]]:  # fmt: skip
    from .batch.journal import Journal
    from .batch.running import Job, run_here, run_on_cluster
    from .batch.tasks import SUFFIXES, Task
    from .core.audio import content_hash

    plan = _chain(chain, data)
    if music is not None and not music.is_dir():
        raise UnusableDataError(f"{music}: there is no such folder")
    journal, rows, jobs = Journal(out), dict[str, dict[str, Any]](), list[Job]()
    files = sorted(p for p in folder.rglob("*") if p.suffix.lower() in SUFFIXES and not p.name.startswith("."))
    files = [p for p in files if p.is_file() and out.resolve() not in p.resolve().parents]
    if not files:
        raise UnusableDataError(f"{folder}: there is no sound file in it")
    for path in files:
        name = path.relative_to(folder).as_posix()
        other = _beside(music, name)
        try:
            heard = content_hash(other) if other else ""
            task = Task(name, content_hash(path), plan[0], measured or plan[1], format, heard)
        except OSError as error:
            rows[name] = _row(name, {}, f"{name}: {error.strerror or error}")
            continue
        known = journal.done(task)
        if known is not None:
            rows[name] = _row(name, known, "")
        else:
            jobs.append(Job(task, path, other, out / task.output))
    bar = _Bar(len(files), len(files) - len(jobs))

    def done(job: "Job", figures: dict[str, Any]) -> None:
        journal.add(job.task, figures)
        rows[job.task.name] = _row(job.task.name, figures, "")
        bar.step()

    def bad(job: "Job", why: str) -> None:
        rows[job.task.name] = _row(job.task.name, {}, why)
        bar.say(why)
        bar.step()

    with bar:
        if cluster:
            run_on_cluster(jobs, cluster, done, bad)
        else:
            run_here(jobs, workers or len(os.sched_getaffinity(0)), done, bad)
    return [rows[name] for name in sorted(rows)]


def _chain(chain: str, data: Path | None) -> tuple[str, bool]:
    """The chain as JSON, and whether it says that starting points are measured."""
    from .core.mix.chain import read_chain

    if not chain:
        raise UnusableChainError("say by --chain what the files go through")
    if Path(chain).is_file():
        found = read_chain(Path(chain).read_bytes(), chain)
    else:
        folder = data or default_data()
        if not folder.is_dir():
            raise UnusableChainError(f"{chain}: there is no such file")
        from .studio.studio import Studio

        studio = Studio(folder)
        try:
            found = studio.chains.named(chain).chain
        finally:
            studio.close()
    text = found.model_dump_json(exclude={"measured"}, exclude_unset=True)
    return text, found.measured


def _beside(music: Path | None, name: str) -> Path | None:
    """The file of the same name, whatever its suffix."""
    if music is None:
        return None
    wanted = music / name
    return next((p for p in sorted(wanted.parent.glob("*")) if p.stem == wanted.stem and p.is_file()), None)


def _print_all(data: Path, out: Path, format: str) -> list[dict[str, Any]]:
    """The mix of every session, each over all cores; what was printed before of the same document is not again."""
    from .batch.journal import Journal
    from .batch.tasks import Task
    from .core.audio import read_sound
    from .core.measure.loudness import measure_loudness
    from .core.print_names import file_names
    from .core.printing import PrintRequest, print_session
    from .store.sessions import Unreadable
    from .studio.studio import Studio

    studio, rows, journal = Studio(data), list[dict[str, Any]](), Journal(out)
    states = studio.sessions.shelf()
    names = file_names([s.name if isinstance(s, Unreadable) else s.session.name for s in states])
    request = PrintRequest.model_validate({"targets": ("mix",), "format": format})
    with _Bar(len(states), 0) as bar:
        for state, name in zip(states, names, strict=True):
            try:
                if isinstance(state, Unreadable):
                    raise MicLaneError(f"{state.name}: {state.reason}")
                document = state.session.model_dump_json()
                file_name = f"{file_names([f'{state.session.name} - Mix'])[0]}.{format.partition('-')[0]}"
                digest = hashlib.sha256(document.encode()).hexdigest()
                task = Task(f"{name}/{file_name}", digest, "the mix of a session", False, format)
                figures = journal.done(task)
                if figures is None:
                    read = studio.sounds.reader(state.session.rate)
                    (file,) = print_session(state.session, request, out / name, read)
                    clip = read_sound(file.path)
                    told = measure_loudness(clip.audio, clip.rate)
                    figures = {"seconds": round(clip.seconds, 3), "lufs_after": round(told.integrated_lufs, 3)}
                    figures |= {"true_peak_dbtp_after": round(told.true_peak_dbtp, 3)}
                    figures |= {"range_lu_after": round(told.range_lu, 3), "clipped_samples": file.clipped}
                    journal.add(task, figures)
                rows.append(_row(name, figures, ""))
            except MicLaneError as error:
                rows.append(_row(name, {}, str(error)))
                bar.say(str(error))
            bar.step()
    studio.close()
    return rows


def _row(name: str, figures: dict[str, Any], problem: str) -> dict[str, Any]:
    return {"file": name, **figures, "problem": problem}


def _write(path: Path, rows: list[dict[str, Any]]) -> None:
    ends = ("before", "after")
    fields = ["file", "seconds", *(f"{n}_{e}" for n, _, _ in _SHOWN for e in ends), "clipped_samples", "problem"]
    try:
        with path.open("w", newline="", encoding="utf-8") as file:
            table = csv.DictWriter(file, fields, extrasaction="ignore")
            table.writeheader()
            table.writerows(rows)
    except OSError as error:
        raise UnusableDataError(f"{path}: could not be written ({error.strerror})") from error


def _show(rows: list[dict[str, Any]]) -> None:
    from rich.console import Console
    from rich.table import Table

    there = [s for s in _SHOWN if any(row.get(f"{s[0]}_after") is not None for row in rows)]
    table = Table(box=None, pad_edge=False)
    table.add_column("file", overflow="fold")
    for _, title, _ in there:
        table.add_column(title, justify="right", no_wrap=True)
    for row in rows:
        if row["problem"]:
            continue
        table.add_row(row["file"], *(_told(row, name, places) for name, _, places in there))
    console = Console(width=None if sys.stdout.isatty() else 160)
    if table.row_count:
        console.print(table, markup=False)
    problems = [row for row in rows if row["problem"]]
    for row in problems:
        typer.echo(f"not made: {row['problem']}", err=True)
    typer.echo(f"{len(rows) - len(problems)} made, {len(problems)} not")


def _told(row: dict[str, Any], name: str, places: int) -> str:
    before, after = (row.get(f"{name}_{end}") for end in ("before", "after"))
    shown = [f"{v:.{places}f}" if v is not None else "–" for v in (before, after)]
    return shown[1] if before is None and after is not None else " → ".join(shown)


class _Bar:
    """Progress with the time left, where somebody looks."""

    def __init__(self, count: int, done: int) -> None:
        from rich.console import Console
        from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

        console = Console(stderr=True)
        columns = (TextColumn("batch"), BarColumn(), MofNCompleteColumn(), TimeRemainingColumn())
        self._progress = Progress(*columns, console=console, disable=not sys.stderr.isatty())
        self._task = self._progress.add_task("batch", total=count, completed=done)

    def __enter__(self) -> "_Bar":
        self._progress.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._progress.stop()

    def step(self) -> None:
        """One more is done with."""
        self._progress.advance(self._task)

    def say(self, words: str) -> None:
        """Say something above the bar."""
        if not self._progress.disable:
            self._progress.console.print(words, markup=False)
