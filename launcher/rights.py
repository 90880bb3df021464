"""As whom things run: started as root, only the launcher stays root; what serves has a user of its own and no rights."""

import compileall
import os
import pwd
import shutil
import subprocess
from functools import lru_cache
from pathlib import Path

from launcher.state import ROOT, Stop, state_dir

USER = "aldrip"
PARTS = ("core", "server", "library", "demo", "web/dist")


def is_root() -> bool:
    return os.geteuid() == 0


def ensure_user() -> None:
    """The system user under which the program runs, made once; an ordinary user serves as who they are."""
    if not is_root():
        return
    try:
        pwd.getpwnam(USER)
    except KeyError:
        command = ["useradd", "--system", "--user-group", "--no-create-home", "--shell", "/usr/sbin/nologin", USER]
        answer = subprocess.run(command, capture_output=True, text=True)
        if answer.returncode:
            raise Stop(f"The system user “{USER}” could not be made: {answer.stderr.strip()}") from None


def give(path: Path, mode: int) -> None:
    """Let the program's user own a file or folder, with no more rights than said."""
    path.chmod(mode)
    if is_root():
        ensure_user()
        user = pwd.getpwnam(USER)
        os.chown(path, user.pw_uid, user.pw_gid)


def folder(name: str) -> Path:
    """A folder of the state that the program writes into, for nobody else to read."""
    path = state_dir() / name
    path.mkdir(exist_ok=True)
    give(path, 0o700)
    return path


def without_rights() -> list[str]:
    """What a command is put behind so that it runs as the program's user, gains nothing, and ends when we do."""
    ends = ["--pdeathsig", "TERM"]
    if not is_root():
        return ["setpriv", *ends, "--no-new-privs", "--"]
    user = ["--reuid", USER, "--regid", USER, "--init-groups", *_bounds()]
    return ["setpriv", *user, *ends, "--no-new-privs", "--"]


@lru_cache(maxsize=1)
def _bounds() -> tuple[str, ...]:
    """Without what a program could ever regain, where this machine lets us say so; a bare container may not."""
    wanted = ("--inh-caps=-all", "--bounding-set=-all")
    tried = subprocess.run(["setpriv", *wanted, "--", "true"], capture_output=True)
    return wanted if tried.returncode == 0 else ()


def program(name: str) -> Path:
    """The code that a server of this name runs: the clone itself, or, started as root, a copy that the program's user can read.

    The clone of root lies in its home as a rule, where nobody else may look.
    """
    if not is_root():
        return ROOT
    copy = state_dir() / f"program-{name}"
    fresh = state_dir() / f"program-{name}.new"
    shutil.rmtree(fresh, ignore_errors=True)
    for part in PARTS:
        if (ROOT / part).exists():
            shutil.copytree(ROOT / part, fresh / part, ignore=shutil.ignore_patterns("__pycache__", "*.pyc"))
    for where, folders, files in os.walk(fresh):
        os.chmod(where, 0o755)
        for name in (*folders, *files):
            os.chmod(os.path.join(where, name), 0o755 if name in folders else 0o644)
    compileall.compile_dir(str(fresh), quiet=2, stripdir=str(fresh), prependdir=str(copy))
    shutil.rmtree(copy, ignore_errors=True)
    fresh.rename(copy)
    return copy
