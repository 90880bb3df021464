"""The front end's own functions, called from here: one node process a test class, nothing on the network."""

import json
import subprocess
from pathlib import Path
from typing import Any
from unittest import TestCase

BRIDGE = Path(__file__).with_name("bridge.mjs")


class WebError(Exception):
    """What a function of the front end threw."""


class WebCase(TestCase):
    """A case whose `web(name, *args)` runs a function that `calls.ts` names."""

    node: "subprocess.Popen[str]"

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.node = subprocess.Popen(["node", str(BRIDGE)], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
        cls.addClassCleanup(cls._end)
        cls._read()

    @classmethod
    def _end(cls) -> None:
        assert cls.node.stdin and cls.node.stdout
        cls.node.stdin.close()
        cls.node.stdout.close()
        cls.node.wait(timeout=20)

    @classmethod
    def _read(cls) -> Any:
        assert cls.node.stdout
        line = cls.node.stdout.readline()
        if not line:
            raise AssertionError(f"node ended: {cls.node.wait(timeout=5)}")
        return json.loads(line)

    def web(self, name: str, *args: Any) -> Any:
        assert self.node.stdin
        self.node.stdin.write(json.dumps({"name": name, "args": args}) + "\n")
        self.node.stdin.flush()
        answer = self._read()
        if "error" in answer:
            raise WebError(answer["error"])
        return answer["value"]
