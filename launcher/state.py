"""Where this clone keeps what must not stand in the clone: data, environment, secrets, ports."""

import hashlib
import json
import os
import secrets
import socket
import sys
from collections.abc import Callable
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent


class Stop(Exception):
    """Ends the command with a sentence for the person who started it."""


def say(text: str) -> None:
    print(text, file=sys.stderr, flush=True)


def state_dir() -> Path:
    """One directory per clone, named by a hash of its path, so two clones never meet."""
    name = hashlib.sha256(str(ROOT).encode()).hexdigest()[:12]
    if os.environ.get("ALDRIP_STATE"):
        base = Path(os.environ["ALDRIP_STATE"])
    elif os.geteuid() == 0:
        base = Path("/var/lib/aldrip")
    else:
        home = os.environ.get("XDG_STATE_HOME") or os.path.expanduser("~/.local/state")
        base = Path(home) / "aldrip"
    path = base / name
    path.mkdir(parents=True, exist_ok=True)
    if os.geteuid() == 0:
        for part in (base, path):
            part.chmod(0o755)  # the postgres user must be able to pass through
    return path


def remembered(name: str, make: Callable[[], str]) -> str:
    """A small secret or setting: made once, readable only by its owner, kept."""
    path = state_dir() / name
    if path.exists():
        return path.read_text().strip()
    value = make()
    handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(handle, "w") as file:
        file.write(value)
    return value


def secret(name: str) -> str:
    return remembered(name, lambda: secrets.token_urlsafe(32))


def easy_word() -> str:
    """A secret that a person copies by hand: twelve letters and figures that nobody takes for one another."""
    letters = "abcdefghjkmnpqrstuvwxyz23456789"
    word = "".join(secrets.choice(letters) for _ in range(12))
    return "-".join((word[:4], word[4:8], word[8:]))


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def port_is_free(port: int) -> bool:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            return False
    return True


def kept_ports() -> dict[str, int]:
    """The ports of last time, by what they are of."""
    try:
        found = json.loads((state_dir() / "ports.json").read_text())
    except (OSError, ValueError):
        return {}
    return {name: int(port) for name, port in found.items()}


def kept_port(name: str, asked: int | None = None) -> int:
    """The port of a server: the one that is asked for, else the one of last time, else a fresh one; kept for next time.

    People have addresses in their heads and bookmarks, so theirs never moves; the database's own does when it is taken.
    """
    path, ports = state_dir() / "ports.json", kept_ports()
    moves = name == "database" and not port_is_free(ports.get(name, 0) or 0)
    wanted = asked or (None if moves else ports.get(name)) or free_port()
    if ports.get(name) != wanted:
        part = path.with_suffix(".part")
        part.write_text(json.dumps({**ports, name: wanted}))
        part.replace(path)
    return int(wanted)
