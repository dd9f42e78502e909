"""The server from the command line: bound, started, stopped."""

import ipaddress
import logging
import socket
import sys
import threading
import time
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from .core.errors import MicLaneError, UnusableDataError
from .logs import log
from .memory import (
    forget_what_stays,
    give_back,
    give_back_memory,
    is_to_give_back,
    keep_memory_together,
    search_as_usual,
)
from .options import Data, default_data

if TYPE_CHECKING:
    from .studio.passwords import Doorkeeper

PORT = 8640
MEMORY_MIB = 1024
SWITCH_S = 0.0001  # how long a thread may keep the interpreter while another wants it: edits are answered at once
STOP_S = 1
LOOK_S, IDLE_S = 0.5, 60.0  # after so long without a render most of what is kept goes
Port = Annotated[int, typer.Option(help="Port; the next free one is taken when it is in use.", min=1, max=65535)]
Host = Annotated[str, typer.Option(help="Address to listen on; beyond this machine it asks for a password.")]
HostNames = Annotated[
    list[str] | None, typer.Option("--host-name", help="Another name that it answers to, as behind a proxy.")
]

Memory = Annotated[int, typer.Option(help="MiB that renders may take, and again those under way.", min=64, max=1 << 20)]


def add_to(app: typer.Typer) -> None:
    """Add the commands."""
    for command in (serve, demo, password):
        app.command()(command)


def serve(
    data: Data = None,
    port: Port = PORT,
    host: Host = "127.0.0.1",
    host_name: HostNames = None,
    memory: Memory = MEMORY_MIB,
) -> None:
    """Serve the sessions of a data folder."""
    _serve(data or default_data(), host, port, host_name or [], memory, demo_song=False)


def demo(
    data: Data = None,
    port: Port = PORT,
    host: Host = "127.0.0.1",
    host_name: HostNames = None,
    memory: Memory = MEMORY_MIB,
) -> None:
    """Serve with the demo song “Salt Ferry”; the first time compiles the sound engine."""
    from .core.warm import is_warm

    if not is_warm():
        warm_first()
    _serve(data or default_data(), host, port, host_name or [], memory, demo_song=True)


def password(data: Data = None) -> None:
    """Set the password that a server beyond this machine asks for."""
    from .store.folder import prepare_folder
    from .studio.passwords import set_password

    folder = data or default_data()
    prepare_folder(folder)
    set_password(folder, typer.prompt("Password", hide_input=True, confirmation_prompt=True))
    typer.echo(f"The password is kept in {folder / 'password.json'}.")


def warm_first() -> None:
    """Compile the inner loops, with a line of progress where it takes long."""
    from .core.warm import warm_up

    begun, said = time.monotonic(), [False]

    def progress(done: int, total: int, name: str) -> None:
        if time.monotonic() - begun < 2 and not said[0]:
            return
        said[0] = True
        end = "\r" if sys.stderr.isatty() and done < total else "\n"
        if sys.stderr.isatty() or done == total or done % 8 == 0:
            sys.stderr.write(f"compiling the sound engine, {done} of {total} {name:<24}{end}")
            sys.stderr.flush()

    warm_up(progress)


def _serve(data: Path, host: str, port: int, names: list[str], memory: int, demo_song: bool) -> None:
    from .studio.passwords import doorkeeper

    keeper = doorkeeper(data) if _reaches_beyond(host) or names else None
    if keeper is None and (_reaches_beyond(host) or names):
        raise UnusableDataError(
            f"{host} can be reached from other machines: set a password first, with `miclane password`"
            f"{'' if data == default_data() else f' --data {data}'} or MICLANE_PASSWORD"
        )
    listener = _free_socket(host, port)
    try:
        _run(data, host, listener, names, keeper, memory, demo_song)
    finally:
        listener.close()


def _run(
    data: Path,
    host: str,
    listener: socket.socket,
    names: list[str],
    keeper: "Doorkeeper | None",
    memory: int,
    demo_song: bool,
) -> None:
    from .background import Background
    from .core.warm import warm_up
    from .studio.logging import begin_logging
    from .studio.tails import Tails
    from .studio.upkeep import tidy
    from .web.app import HOSTS, close_app, create_app

    application = create_app(data, HOSTS | _names_of(host) | frozenset(names), keeper, memory << 20)
    begin_logging(data)
    studio = application.state.studio
    if demo_song:
        _lay_out_demo(studio)
    port = listener.getsockname()[1]
    shown = f"[{host}]" if ":" in host else host
    typer.echo(f"Mic Lane: http://{shown}:{port}/{'s/salt-ferry/lane/lead' if demo_song else ''}")
    if keeper is not None:
        typer.echo("It can be reached from other machines, and asks for its password.")
    typer.echo(f"Data in {data}; Ctrl+C stops.")
    sys.stdout.flush()
    background = Background(studio.stopping)
    background.later(0.3, lambda: log.info("start", host=host, port=port))
    background.later(0.4, lambda: warm_up(lambda *_: _between(studio)))  # after the first page, which matters more
    background.later(5.0, forget_what_stays)
    background.later(20.0, lambda: tidy(studio))
    sys.setswitchinterval(SWITCH_S)
    search_as_usual()
    give_back_memory()
    keep_memory_together(2)
    tails = Tails(studio)
    application.state.foreman.seen = tails.want
    _rest_when_idle(studio, tails)
    try:
        _server(application).run(sockets=[listener])
    finally:
        studio.stop()
        tails.close()
        background.close()  # before what it works on is
        close_app(application)
        log.info("stop")


def _between(studio: Any) -> None:
    """Said by the way by what works beside the server: what is heard at once goes first, and it may be to stop."""
    studio.gate.pass_through()
    studio.stopping.check()


def _rest_when_idle(studio: Any, tails: Any) -> None:
    def watch() -> None:
        before = time.monotonic()
        while not studio.stopping.is_set():
            time.sleep(LOOK_S)
            now = time.monotonic()
            if rested := studio.rest(IDLE_S):
                tails.forget()
            if rested or is_to_give_back(now, studio.used, before):
                give_back()
                before = now

    threading.Thread(target=watch, name="rest when idle", daemon=True).start()


def _server(application: Any) -> Any:
    """A server that gives up what is under way as soon as it is asked to stop, and then ends quietly."""
    import uvicorn

    from .web.security import LARGEST_EDIT_BYTES

    class Server(uvicorn.Server):
        def handle_exit(self, sig: int, frame: Any) -> None:
            application.state.studio.stop()
            super().handle_exit(sig, frame)

    logging.getLogger("uvicorn.error").setLevel(logging.CRITICAL + 1)  # faults are logged where they happen
    config = uvicorn.Config(
        application,
        log_config=None,
        access_log=False,
        timeout_graceful_shutdown=STOP_S,
        proxy_headers=True,
        ws_max_size=LARGEST_EDIT_BYTES,
        ws_per_message_deflate=False,  # sound does not get smaller by it, only later
    )
    return Server(config)


def _lay_out_demo(studio: Any) -> None:
    from .demo.seed import SESSION_ID, seed

    if SESSION_ID in studio.sessions.names():
        return
    if any(identifier == SESSION_ID for identifier, _, _ in studio.sessions.bin()):
        studio.sessions.restore(SESSION_ID)
        return
    typer.echo("Laying out the demo song ...")
    seed(studio.sessions, studio.sounds)


def _reaches_beyond(host: str) -> bool:
    try:
        return not ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host != "localhost"


def _names_of(host: str) -> frozenset[str]:
    """What a browser may call a server that listens on `host`."""
    if host in ("0.0.0.0", "::"):
        own = {socket.gethostname(), *socket.gethostbyname_ex(socket.gethostname())[2]}
        return frozenset(own | {"["} if host == "::" else own)
    return frozenset({"[" if ":" in host else host})


def _free_socket(host: str, port: int) -> socket.socket:
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    last: OSError | None = None
    for candidate in range(port, min(port + 50, 65536)):
        listener = socket.socket(family, socket.SOCK_STREAM, socket.IPPROTO_TCP)  # named, or no TCP_NODELAY
        listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            listener.bind((host, candidate))
            listener.listen(128)
            return listener
        except OSError as error:
            listener.close()
            last = error
            if not isinstance(error, PermissionError) and error.errno not in (98, 48):
                break
    raise MicLaneError(
        f"cannot listen on {host}, port {port} to {min(port + 49, 65535)}: {last.strerror if last else ''}"
    )
