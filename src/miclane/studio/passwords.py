"""The password of a server that others can reach: kept as scrypt (RFC 7914) of it, checked a few times a minute."""

import hashlib
import hmac
import json
import os
import secrets
import threading
import time
from collections import defaultdict
from pathlib import Path

from ..core.errors import UnusableDataError
from ..store.files import write_whole

VARIABLE = "MICLANE_PASSWORD"
LEAST_LENGTH = 8
TRIES, WINDOW_S = 5, 60.0
LASTS_S = 30 * 24 * 3600.0
_COST = {"n": 1 << 15, "r": 8, "p": 1, "maxmem": 64 << 20}


def _derived(password: str, salt: bytes) -> bytes:
    return hashlib.scrypt(password.encode(), salt=salt, dklen=32, **_COST)


def set_password(data: Path, password: str) -> None:
    """Keep a password for the data folder; UnusableDataError when it is too short."""
    if len(password) < LEAST_LENGTH:
        raise UnusableDataError(f"the password needs at least {LEAST_LENGTH} characters")
    salt = secrets.token_bytes(16)
    path = data / "password.json"
    write_whole(path, json.dumps({"salt": salt.hex(), "scrypt": _derived(password, salt).hex()}).encode())
    path.chmod(0o600)


class Doorkeeper:
    """Knows the password and who has said it. Sessions end with the server, or after thirty days."""

    def __init__(self, salt: bytes, derived: bytes) -> None:
        self._salt, self._wanted = salt, derived
        self._inside: dict[str, float] = {}
        self._tries: defaultdict[str, list[float]] = defaultdict(list)
        self._lock = threading.Lock()

    def enter(self, password: str, who: str) -> str | None:
        """The token of a new visit; None for a wrong password. UnusableDataError after too many tries."""
        now = time.monotonic()
        with self._lock:
            recent = [t for t in self._tries[who] if now - t < WINDOW_S]
            self._tries[who] = recent
            if len(self._tries) > 1000:
                self._tries.clear()
            if len(recent) >= TRIES:
                raise UnusableDataError(f"too many tries; wait {WINDOW_S - (now - recent[0]):.0f} s")
            self._tries[who].append(now)
        if not hmac.compare_digest(_derived(password, self._salt), self._wanted):
            return None
        token = secrets.token_urlsafe(32)
        with self._lock:
            self._tries.pop(who, None)
            self._inside = {t: until for t, until in self._inside.items() if until > now}
            self._inside[token] = now + LASTS_S
        return token

    def knows(self, token: str) -> bool:
        """Whether a token is that of a visit under way."""
        return self._inside.get(token, 0.0) > time.monotonic()


def doorkeeper(data: Path) -> Doorkeeper | None:
    """The doorkeeper of a data folder: by the environment variable, else by the password kept; None without one."""
    given = os.environ.get(VARIABLE)
    if given:
        if len(given) < LEAST_LENGTH:
            raise UnusableDataError(f"{VARIABLE} needs at least {LEAST_LENGTH} characters")
        salt = secrets.token_bytes(16)
        return Doorkeeper(salt, _derived(given, salt))
    path = data / "password.json"
    try:
        kept = json.loads(path.read_bytes())
        return Doorkeeper(bytes.fromhex(kept["salt"]), bytes.fromhex(kept["scrypt"]))
    except FileNotFoundError:
        return None
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise UnusableDataError(f"{path}: cannot be read; set the password again with `miclane password`") from error
