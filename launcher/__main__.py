"""`./aldrip COMMAND`: every command sets up what it needs and says what it does."""

import os
import sys

from launcher import commands
from launcher.state import Stop

COMMANDS = {
    "demo": (commands.demo, "install what is missing and serve the invented season that ships"),
    "serve": (commands.serve, "the same for your own nursery: starts empty, keeps what you enter"),
    "test": (commands.test, "run every gate and every test; labels such as tests.core run a part"),
    "calc": (commands.calc, "stateless calculators: JSON on standard input and output"),
    "sower": (commands.sower, "a tray sower and its scale for practice, on this computer"),
    "bench": (commands.bench, "the measured ratios; --list names them"),
    "manage": (commands.manage, "a management command on the database of `serve` (or --demo first)"),
    "backup": (commands.backup, "write the database of `serve` to a file"),
    "restore": (
        commands.restore,
        "put a backup in the place of the database, checked first; what was there is kept aside",
    ),
    "check": (commands.check, "say whether this installation is sound, and what to do where it is not"),
    "archive": (commands.archive, "write a whole nursery to a file that any Aldrip can read"),
    "unarchive": (commands.unarchive, "bring a nursery in from such a file, into the database of `serve`"),
    "types": (commands.types, "write the OpenAPI document and the front end's types from it"),
}


def main() -> int:
    if len(sys.argv) < 2 or sys.argv[1] in ("-h", "--help"):
        print("usage: ./aldrip COMMAND …\n")
        for name, (_, text) in COMMANDS.items():
            print(f"  {name:9} {text}")
        return 0 if len(sys.argv) > 1 else 2
    name, rest = sys.argv[1], sys.argv[2:]
    if name not in COMMANDS:
        print(f"There is no command “{name}”. Known: {', '.join(COMMANDS)}.", file=sys.stderr)
        return 2
    os.umask(0o022)  # what serves may have to read what root installs; secrets say 0600 for themselves
    try:
        return COMMANDS[name][0](rest)
    except Stop as stop:
        print(stop, file=sys.stderr)
        return 1
    except KeyboardInterrupt:
        return 130


if __name__ == "__main__":
    sys.exit(main())
