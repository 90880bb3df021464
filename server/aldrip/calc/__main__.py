"""`./aldrip calc <name>`: JSON on standard input and output; exits 2 on a refusal, 1 on our fault."""

import argparse
import sys

from aldrip.calc import apart, contract
from aldrip.calc.calculators import CALCULATORS
from aldrip_core.refusal import FieldError


def main() -> int:
    parser = argparse.ArgumentParser(prog="aldrip calc", description="Stateless calculators, JSON in and out.")
    parser.add_argument("name", nargs="?", help="calculator")
    parser.add_argument("--list", action="store_true", help="name every calculator")
    parser.add_argument("--schema", metavar="NAME", help="JSON Schema of a calculator's input")
    parser.add_argument("--serve", action="store_true", help="answer one question a line, for the web server")
    options = parser.parse_args()
    if options.serve:
        apart.serve()
        return 0
    if options.list:
        for name, schema in CALCULATORS.items():
            print(f"{name:18} {(schema.__doc__ or '').splitlines()[0]}")
        return 0
    name = options.schema or options.name
    if name is None:
        parser.error("name a calculator, or use --list")
    if name not in CALCULATORS:
        text = f"There is no calculator “{name}”. Known: {', '.join(CALCULATORS)}."
        print(contract.dumps(contract.problem([FieldError("name", "unknown_calculator", text)])))
        return 2
    if options.schema:
        print(contract.dumps(contract.schema_of(name)))
        return 0
    answered, text = apart.answer_in_time(name, sys.stdin.buffer.read())
    print(text)
    return 0 if answered else 2


if __name__ == "__main__":
    sys.exit(main())
