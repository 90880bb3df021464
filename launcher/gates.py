"""The gates of the test command: style, types, contracts, migrations, drift of the API types."""

import subprocess
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from launcher import install
from launcher.state import ROOT

WEB = ROOT / "web"
TYPES = WEB / "src" / "api" / "schema.d.ts"


def _bin(name: str) -> str:
    return str(install.venv() / "bin" / name)


def gate_commands() -> list[tuple[str, list[str], Path]]:
    manage = [str(install.python()), str(ROOT / "server" / "manage.py")]
    return [
        ("ruff", [_bin("ruff"), "check", "."], ROOT),
        ("ruff format", [_bin("ruff"), "format", "--check", "."], ROOT),
        ("mypy core (strict)", [_bin("mypy"), "core/aldrip_core"], ROOT),
        ("mypy server", [_bin("mypy"), "server/aldrip", "launcher"], ROOT),
        ("import contracts", [_bin("lint-imports")], ROOT),
        ("tsc", ["npm", "run", "--silent", "types"], WEB),
        ("front-end lint", ["npm", "run", "--silent", "lint"], WEB),
        ("migrations complete", [*manage, "makemigrations", "--check", "--dry-run"], ROOT),
    ]


def run_all(env: dict[str, str]) -> list[str]:
    """Run every gate, those of the front end beside the others; print each with its time. Returns those that failed."""

    def run(name: str, command: list[str], where: Path) -> list[str]:
        began = time.monotonic()
        answer = subprocess.run(command, cwd=where, env=env, capture_output=True, text=True)
        _report(name, answer.returncode == 0, began, answer.stdout + answer.stderr)
        return [name] if answer.returncode else []

    def run_those(of_the_front_end: bool) -> list[str]:
        return [name for gate in gate_commands() if (gate[2] == WEB) == of_the_front_end for name in run(*gate)]

    with ThreadPoolExecutor(2) as lanes:
        failed = [name for part in lanes.map(run_those, (True, False)) for name in part]
    began = time.monotonic()
    drift = types_drift(env)
    _report("API types not drifted", not drift, began, drift)
    return failed + (["API types"] if drift else [])


def _report(name: str, good: bool, began: float, words: str) -> None:
    print(f"{'ok  ' if good else 'FAIL'} {name} ({time.monotonic() - began:.1f} s)", flush=True)
    if not good:
        print("\n".join(words.strip().splitlines()[-40:]), flush=True)


def _make_types(env: dict[str, str], target: Path) -> str:
    """Write the types of the API as it is now; returns what went wrong, or nothing."""
    with tempfile.NamedTemporaryFile("w", suffix=".json", delete=False) as schema:
        path = Path(schema.name)
    try:
        export = [
            str(install.python()),
            str(ROOT / "server" / "manage.py"),
            "export_openapi_schema",
            "--api",
            "aldrip.urls.api",
            "--output",
            str(path),
        ]
        for command, where in (
            (export, ROOT),
            (["npm", "run", "--silent", "api", "--", str(path), "-o", str(target)], WEB),
        ):
            answer = subprocess.run(command, cwd=where, env=env, capture_output=True, text=True)
            if answer.returncode:
                return answer.stdout + answer.stderr
        return ""
    finally:
        path.unlink(missing_ok=True)


def types_drift(env: dict[str, str]) -> str:
    with tempfile.TemporaryDirectory() as folder:
        fresh = Path(folder) / "schema.d.ts"
        wrong = _make_types(env, fresh)
        if wrong:
            return wrong
        if not TYPES.exists() or fresh.read_text() != TYPES.read_text():
            return "web/src/api/schema.d.ts is not what the API gives: run ./aldrip types and commit it."
    return ""


def write_types(env: dict[str, str]) -> int:
    wrong = _make_types(env, TYPES)
    print(wrong or f"Wrote {TYPES.relative_to(ROOT)}")
    return 1 if wrong else 0
