"""A scale beside the sower, asked over plain HTTP on this computer; and the sower for practice, which answers as one."""

import json
import os
import re
import urllib.error
import urllib.request
from typing import Any

from aldrip.base.errors import refuse
from aldrip.sowing.models import Machine

#: Where the sower for practice answers, while it runs.
PRACTICE = "ALDRIP_PRACTICE_SOWER"
LOOPBACK = re.compile(r"http://127\.0\.0\.1:\d{2,5}")
SECONDS = 3.0
MOST_BYTES = 2000


def read_address(text: str) -> str:
    """The address of a scale as typed; on this computer only, since nothing else is asked from here. Raises Refused."""
    plain = text.strip().rstrip("/")
    plain = plain if not plain or "://" in plain else f"http://{plain}"
    if plain and not LOOPBACK.fullmatch(plain):
        told = f"“{plain}” is no scale on this computer. Write it like 127.0.0.1:8099, or leave it empty and type what is weighed."
        raise refuse("scale_at", "not_here", told)
    return plain


def address_of(machine: Machine) -> str:
    """Where its scale is asked; empty where there is none."""
    return os.environ.get(PRACTICE, "") or machine.scale_at if machine.simulated else machine.scale_at


def weighed(machine: Machine) -> float:
    """What lies on the scale now [g]. Raises Refused."""
    return _grams(machine, urllib.request.Request(f"{_there(machine)}/scale"))


def sow_for_practice(machine: Machine, setting: float, *, evenly: bool, of_g: float) -> float:
    """Let the sower for practice sow a tray at a setting, filled with seed of which a tray takes `of_g`: what it caught [g].

    Raises Refused.
    """
    if not machine.simulated:
        told = f"{machine.name} is not the sower for practice: sow a tray with it, and weigh it."
        raise refuse("machine_id", "not_practice", told)
    body = json.dumps({"setting": setting, "evenly": evenly, "of_g": of_g}).encode()
    return _grams(machine, urllib.request.Request(f"{_there(machine)}/sow", data=body, method="POST"))


def _there(machine: Machine) -> str:
    address = address_of(machine)
    if not address:
        why = (
            "The sower for practice does not run: start it with ./aldrip sower and write its address at the machine."
            if machine.simulated
            else f"{machine.name} has no scale that can be asked. Type what the tray caught."
        )
        raise refuse("grams", "no_scale", why)
    return read_address(address)


def _grams(machine: Machine, request: urllib.request.Request) -> float:
    opener = urllib.request.build_opener(urllib.request.ProxyHandler({}))
    try:
        with opener.open(request, timeout=SECONDS) as answer:
            told: Any = json.loads(answer.read(MOST_BYTES))
        grams = told["grams"]
    except urllib.error.HTTPError as error:
        raise refuse("setting", "refused_there", _said(error)) from None
    except (OSError, ValueError, KeyError, TypeError):
        told_ = f"The scale of {machine.name} does not answer at {address_of(machine)}. Look whether it runs, or type what the tray caught."
        raise refuse("grams", "no_answer", told_) from None
    if not isinstance(grams, int | float) or not 0 <= grams <= 100_000:
        raise refuse("grams", "no_weight", f"The scale of {machine.name} told no weight. Type what the tray caught.")
    return float(grams)


def _said(error: urllib.error.HTTPError) -> str:
    try:
        return str(json.loads(error.read(MOST_BYTES))["message"])
    except (ValueError, KeyError, TypeError):
        return f"The sower refused it ({error.code})."
