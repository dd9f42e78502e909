"""The command line: the same engine without a server."""

import json
import logging
import math
import os
import sys
from pathlib import Path
from threading import Thread
from typing import Annotated, Literal, NoReturn

import typer

from .core.errors import MicLaneError
from .logs import log
from .memory import keep_memory_together, search_seldom
from .options import Data, default_data
from .serving import warm_first

_ALONE = ("process", "measure", "fit", "schema")  # commands that touch no data folder: nothing there logs
_SOON_LOADED = (*_ALONE, "serve", "demo")  # these are soon done, or search as usual once they serve
app = typer.Typer(add_completion=False, no_args_is_help=True, help="Mixing vocals: real processing, measured.")


@app.command()
def process(
    sound: Path,
    chain: Annotated[Path, typer.Option(help="Chain file (JSON).")],
    out: Annotated[Path, typer.Option(help="File to write: .wav, .flac or .ogg.")],
    key: Annotated[Path | None, typer.Option(help="What keyed stages hear.")] = None,
    trace: Annotated[Path | None, typer.Option(help="Write what every stage did (JSON).")] = None,
    bits: Annotated[int, typer.Option(help="16 or 24 with dither; 32 is float.")] = 32,
) -> None:
    """One file through one chain."""
    from .core.audio import read_sound, resample
    from .core.errors import UnusableChainError, UnusableSoundError
    from .core.mix.chain import read_chain
    from .core.process import process as run
    from .core.sound_writer import SoundWriter

    if bits not in (16, 24, 32):
        raise UnusableSoundError(f"--bits {bits}: must be 16, 24 or 32")
    if not chain.is_file():
        raise UnusableChainError(f"{chain}: there is no such file")
    plan = read_chain(chain.read_bytes(), str(chain))
    clip = read_sound(sound, str(sound))
    heard = None
    if key is not None:
        other = read_sound(key, str(key))
        heard = resample(other.audio, other.rate, clip.rate)
    audio, told = run(clip.audio, clip.rate, plan, heard, traces=trace is not None)
    writer = SoundWriter(out, clip.rate, audio.shape[0], bits)  # type: ignore[arg-type]
    writer.write(audio)
    writer.close()
    if writer.clipped:
        over = 20 * math.log10(writer.peak)
        typer.echo(
            f"{out}: {writer.clipped:,} samples over full scale were clipped, by {over:.1f} dB at most;"
            " --bits 32 writes float, which holds them",
            err=True,
        )
    if trace is not None:
        trace.write_text(json.dumps({"format": "mic-lane/trace", "version": 1, "rate": clip.rate, "stages": told}))


@app.command()
def measure(sound: Path, as_json: Annotated[bool, typer.Option("--json", help="As JSON.")] = False) -> None:
    """The raw-take report: loudness, true peak, phrases, events, noise floor, rings, pitch range, and findings."""
    from .core.audio import read_sound
    from .core.findings.report import measure_file
    from .core.kernels import load
    from .core.units import note_name, show_time

    keep_memory_together()
    Thread(target=load).start()  # while the file is read; waited for at the end, also where there is nothing to be read
    clip = read_sound(sound, str(sound))
    told = measure_file(clip.audio, clip.rate)
    if as_json:
        typer.echo(json.dumps({"file": str(sound), **told}, indent=1))
        return
    kind = "mono" if told["channels"] == 1 else "stereo"
    typer.echo(f"{sound.name}: {show_time(told['seconds'])}, {told['rate']} Hz, {kind}")
    typer.echo(f"loudness     {told['integrated_lufs']:.1f} LUFS, range {told['loudness_range_lu']:.1f} LU")
    typer.echo(f"true peak    {told['true_peak_dbtp']:.1f} dBTP")
    floor = told["noise_floor_dbfs"]
    typer.echo("noise floor  not known: digital silence" if floor is None else f"noise floor  {floor:.1f} dBFS")
    if told["pitch_range_hz"]:
        low, high = told["pitch_range_hz"]
        typer.echo(f"pitch        {low:.0f} Hz ({note_name(low)}) to {high:.0f} Hz ({note_name(high)})")
    for p in told["phrases"]:
        typer.echo(
            f"phrase       {show_time(p['start_s'])} to {show_time(p['end_s'])}  {p['integrated_lufs']:.1f} LUFS"
        )
    for e in told["events"]:
        more = {
            "sibilant": "{centre_hz} Hz  {excess_db:+.1f} dB over the voice",
            "plosive": "{excess_db:+.1f} dB to the voice",
            "breath": "{level_dbfs:.1f} dBFS",
        }
        typer.echo(f"{e['kind']:<12} {e['start_s']:.2f} s  {more[e['kind']].format(**e)}")
    if not told["rings_known"]:
        typer.echo("rings        not looked for: the noise lies less than 25 dB under the voice")
    for f in told["findings"]:
        typer.echo(f"finding      {f['title']}: {f['evidence']}")


@app.command()
def fit(
    voice: Path,
    music: Path,
    returns: Annotated[Path | None, typer.Option(help="What the voice is in: its reverb and echoes.")] = None,
    listening: Annotated[float, typer.Option(min=40, max=100, help="Level in dB SPL at which −20 LUFS is heard.")] = 73,
    as_json: Annotated[bool, typer.Option("--json", help="As JSON, with the pocket as a chain.")] = False,
) -> None:
    """How clear a voice is in its music, phrase by phrase, what stands over it, and the pocket that would answer it."""
    from .core.audio import read_sound, resample
    from .core.errors import UnusableSoundError
    from .core.fitting import fit_files
    from .core.units import show_time

    clip = read_sound(voice, str(voice))
    heard = {path: read_sound(path, str(path)) for path in (music, returns) if path is not None}
    others = {path: resample(x.audio, x.rate, clip.rate) for path, x in heard.items()}
    told = fit_files(clip.audio, others[music], clip.rate, others[returns] if returns else None, listening)
    if not told["phrases"]:
        raise UnusableSoundError(f"{voice}: nothing is sung in it")
    if as_json:
        typer.echo(json.dumps({"voice": str(voice), "music": str(music), **told}, indent=1))
        return
    pocket = told["pocket"]
    typer.echo(f"clarity      {told['clarity']:.2f}" + (f", with the pocket {pocket['clarity']:.2f}" if pocket else ""))
    for k, p in enumerate(told["phrases"]):
        where = f"{show_time(p['start_s'])} to {show_time(p['end_s'])}"
        with_pocket = f", with the pocket {pocket['phrases'][k]:.2f}" if pocket and pocket["phrases"][k] else ""
        level = "" if p["over_rest_db"] is None else f"  {p['over_rest_db']:+.1f} dB over all else"
        typer.echo(f"phrase {k + 1:<5} {where}  {p['clarity'] or 0:.2f}{with_pocket}{level}")
    for o in told["over_the_voice"]:
        band = f"{o['low_hz']} to {o['high_hz']} Hz"
        typer.echo(f"over it      {o['what']}, phrase {o['phrase'] + 1}: {o['over_db']:.1f} dB, {band}")
    for b in pocket["chain"]["stages"][0]["bands"] if pocket else ():
        typer.echo(f"pocket       {b['frequency_hz']:.0f} Hz, at most {b['dynamic']['change_db']:g} dB, in the middle")


@app.command("print")
def print_(
    session: Path,
    out: Annotated[Path, typer.Option(help="Folder to print into.")],
    target: Annotated[
        list[str] | None, typer.Option(help="mix, vocals, lane:ID, wet:ID, raw:ID, return:ID or bus:ID.")
    ] = None,
    format: Annotated[str, typer.Option(help="wav-32, wav-24, wav-16, flac-24, flac-16 or ogg.")] = "wav-24",
    naming: Annotated[str, typer.Option(help="How files are named: {song} {name} {number} …")] = "{song} - {name}",
    loudness: Annotated[float | None, typer.Option(help="LUFS that each file is turned to by one gain.")] = None,
    ceiling: Annotated[float | None, typer.Option(help="dBTP that it is turned no higher than.")] = None,
    markers: Annotated[bool, typer.Option(help="Tell where the phrases are.")] = True,
    cluster: Annotated[str, typer.Option(help="Address of a Dask scheduler whose workers print a target each.")] = "",
    data: Data = None,
) -> None:
    """Print a session: its name or id in the data folder, or a session file (JSON) beside its sounds' data folder."""
    from pydantic import ValidationError

    from .core.errors import UnknownPlaceError, UnusableChainError, UnusableDataError
    from .core.mix.chain import describe, read_session
    from .core.printing import PrintRequest, print_session
    from .store.state import State
    from .studio.studio import Studio

    folder = data or default_data()
    if not folder.is_dir():
        raise UnusableDataError(f"{folder}: there is no such data folder")
    studio = Studio(folder)
    if session.is_file():
        document = read_session(session.read_bytes(), str(session))
    else:
        states = [s for s in studio.sessions.shelf() if isinstance(s, State)]
        found = next((s for s in states if str(session) in (s.id, s.session.name)), None)
        if found is None:
            raise UnknownPlaceError(f"there is no session “{session}” in {studio.data}")
        document = found.session
    try:
        asked = {"targets": target or ["mix"], "format": format, "naming": naming, "markers": markers}
        request = PrintRequest.model_validate({**asked, "loudness_lufs": loudness, "ceiling_dbtp": ceiling})
    except ValidationError as error:
        raise UnusableChainError(describe(error)) from error
    last = [-1]

    def progress(share: float) -> None:
        if sys.stderr.isatty() and int(share * 100) != last[0]:
            last[0] = int(share * 100)
            sys.stderr.write(f"\rprinting {last[0]} %")

    if cluster:
        from .batch.printing import print_on_cluster

        files = print_on_cluster(document, request, out, studio.sounds.original, cluster, progress)
    else:
        files = print_session(document, request, out, studio.sounds.reader(document.rate), progress)
    for file in files:
        turned = "" if file.gain_db is None else f"  turned by {file.gain_db:+.1f} dB"
        short = f", {file.short_lu:.1f} LU short of the loudness asked for" if file.short_lu > 0.05 else ""
        typer.echo(f"{file.path}{turned}{short}")


@app.command()
def schema(which: Literal["chain", "session"]) -> None:
    """The JSON Schema of chain or session files."""
    from .core.mix.chain import schema as make

    typer.echo(json.dumps(make(which), indent=1))


@app.command()
def warm() -> None:
    """Compile the inner loops once, so that nobody waits for a compiler later."""
    warm_first()


@app.callback()
def begin(context: typer.Context) -> None:
    """Mixing vocals: real processing, measured."""
    if context.invoked_subcommand in _ALONE:
        return
    log.set_up(_warnings_only)


def _warnings_only() -> None:
    import structlog

    structlog.configure(
        wrapper_class=structlog.make_filtering_bound_logger(logging.WARNING),
        logger_factory=structlog.PrintLoggerFactory(sys.stderr),
    )


def main() -> None:
    """Entry: errors in one plain line, exit status 2 for unusable input."""
    from . import batching, keeping, serving, upkeep

    if sys.argv[1:2] and sys.argv[1] in _SOON_LOADED:
        search_seldom()
    for commands in (serving, upkeep, keeping, batching):
        commands.add_to(app)
    try:
        app()
    except MicLaneError as error:
        sys.stderr.write(f"miclane: {error}\n")
        sys.exit(2)
    except KeyboardInterrupt:
        sys.stderr.write("\n")
        sys.exit(130)
    except SystemExit as end:
        if len(sys.argv) > 1 and sys.argv[1] in _ALONE and isinstance(end.code, int):
            _leave(end.code)
        raise


def _leave(code: int) -> NoReturn:
    """End at once: all is written and closed, and taking down the compiler and the libraries takes 0.3 s."""
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(code)


if __name__ == "__main__":
    main()
