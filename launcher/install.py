"""Install what is missing: Debian packages, the Python environment, the front end."""

import fcntl
import hashlib
import os
import shutil
import subprocess
from collections.abc import Iterable
from contextlib import contextmanager
from pathlib import Path
from typing import IO, Any

from launcher.state import ROOT, Stop, say, state_dir

PANGO = ("libpango-1.0-0", "libpangoft2-1.0-0", "libharfbuzz-subset0", "fonts-dejavu-core")
NEEDED = {
    "runtime": (),
    "build": ("postgresql-15", *PANGO),
    "reference": ("postgresql-15", *PANGO, "chromium", "chromium-driver"),
}


def _installed(package: str) -> bool:
    answer = subprocess.run(["dpkg-query", "-W", "-f=${Status}", package], capture_output=True, text=True)
    return "install ok installed" in answer.stdout


def debian_packages(level: str) -> None:
    """Install the Debian packages of a level; an ordinary user is told the line to run."""
    missing = [name for name in NEEDED[level] if not _installed(name)]
    if not missing:
        return
    if os.geteuid() != 0:
        raise Stop(
            "Debian packages are missing. Ask an administrator to run:\n"
            "  install -d /etc/postgresql-common && "
            "echo 'create_main_cluster = false' >> /etc/postgresql-common/createcluster.conf\n"
            f"  apt-get install --no-install-recommends {' '.join(missing)}"
        )
    say(f"Installing Debian packages: {' '.join(missing)}")
    _never_make_a_system_cluster()
    env = {**os.environ, "DEBIAN_FRONTEND": "noninteractive"}
    lock = ["-o", "DPkg::Lock::Timeout=300"]
    log = state_dir() / "apt.log"
    with log.open("w") as out:
        for command in (
            ["apt-get", *lock, "-q", "update"],
            ["apt-get", *lock, "-q", "-y", "--no-install-recommends", "install", *missing],
        ):
            if subprocess.run(command, env=env, stdout=out, stderr=out).returncode:
                raise Stop(f"apt-get failed; its words are in {log}")


def _never_make_a_system_cluster() -> None:
    # Debian starts a cluster on 5432 when postgresql is first installed, unless told not to.
    if Path("/etc/postgresql-common/createcluster.conf").exists() or Path("/etc/postgresql").exists():
        return
    Path("/etc/postgresql-common").mkdir(exist_ok=True)
    Path("/etc/postgresql-common/createcluster.conf").write_text("create_main_cluster = false\n")


def venv() -> Path:
    return state_dir() / "venv"


def python() -> Path:
    return venv() / "bin" / "python"


def digest(paths: Iterable[Path]) -> str:
    total = hashlib.sha256()
    for path in sorted(paths):
        total.update(str(path.relative_to(ROOT)).encode())
        total.update(path.read_bytes())
    return total.hexdigest()


@contextmanager
def _alone(name: str) -> Any:
    """Two commands of one clone never install the same thing at once."""
    handle: IO[str]
    with (state_dir() / f"{name}.lock").open("w") as handle:
        fcntl.flock(handle, fcntl.LOCK_EX)
        yield


def python_packages(level: str) -> None:
    """Bring the clone's own virtual environment to a level's hashed lock file."""
    lock = ROOT / "requirements" / f"{level}.txt"
    stamp = state_dir() / f"python-{level}.stamp"
    wanted = digest([lock])
    if stamp.exists() and stamp.read_text() == wanted and python().exists():
        return
    with _alone("python"):
        if not python().exists():
            say("Making the Python environment")
            run(["/usr/bin/python3", "-m", "venv", str(venv())], "python")
        uv = venv() / "bin" / "uv"
        if not uv.exists():
            uv_lock = str(ROOT / "requirements" / "uv.txt")
            run([str(python()), "-m", "pip", "install", "-q", "--require-hashes", "-r", uv_lock], "python")
        say(f"Installing Python packages ({level})")
        run(
            [str(uv), "pip", "install", "-q", "--python", str(python()), "--require-hashes", "-r", str(lock)],
            "python",
        )
        stamp.write_text(wanted)


def node_env() -> dict[str, str]:
    """The environment in which node and npm are the ones of our own environment."""
    env = {key: value for key, value in os.environ.items() if not key.lower().startswith("npm_config_nodedir")}
    env["PATH"] = f"{venv() / 'bin'}:/usr/bin:/bin"
    return env


def front_end() -> None:
    """npm packages as locked, then the build; both only when something changed."""
    web = ROOT / "web"
    with _alone("web"):
        packages = digest([web / "package.json", web / "package-lock.json"])
        stamp = web / "node_modules" / ".aldrip-stamp"
        if not stamp.exists() or stamp.read_text() != packages:
            say("Installing front-end packages")
            run(["npm", "ci", "--no-audit", "--no-fund", "--ignore-scripts"], "npm", cwd=web, env=node_env())
            stamp.write_text(packages)
        sources = [path for path in (web / "src").rglob("*") if path.is_file()]
        sources += [web / name for name in ("index.html", "vite.config.ts", "tsconfig.json", "package-lock.json")]
        wanted = digest(sources)
        built = web / "dist" / ".aldrip-stamp"
        if not built.exists() or built.read_text() != wanted:
            say("Building the front end")
            run(["npm", "run", "--silent", "build"], "web-build", cwd=web, env=node_env())
            run([str(python()), "-m", "whitenoise.compress", "-q", str(web / "dist")], "web-pack")
            built.write_text(wanted)


def run(command: list[str], log: str, cwd: Path = ROOT, env: dict[str, str] | None = None) -> None:
    """Run a set-up step quietly; when it fails, its last words are shown."""
    program = shutil.which(command[0], path=(env or os.environ).get("PATH")) or command[0]
    answer = subprocess.run([program, *command[1:]], cwd=cwd, env=env, capture_output=True, text=True)
    (state_dir() / f"{log}.log").write_text(answer.stdout + answer.stderr)
    if answer.returncode:
        tail = "\n".join((answer.stdout + answer.stderr).strip().splitlines()[-15:])
        raise Stop(f"This step failed: {' '.join(command[:4])} …\n{tail}")
