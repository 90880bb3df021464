"""Whether the screens are told truly which rooms an act touched: what changed on a screen must rest on one of them."""

import json
import re
from pathlib import Path
from typing import Any

from django.test import Client

#: What the front end keeps, and the rooms on which it rests; only those are asked for again after a save.
RESTS: dict[str, list[str]] = json.loads((Path(__file__).parents[2] / "web" / "src" / "api" / "rests.json").read_text())
#: Where each is asked for; of those with a row in the address the newest row of a list is taken.
ASKED = {
    "batches": "/batches",
    "board": "/board?start=2027-03-01&end=2027-12-01",
    "buying": "/buying",
    "spoken": "/buying/spoken",
    "customers": "/customers",
    "day": "/day?days=62",
    "deliveries": "/deliveries",
    "jobs": "/jobs",
    "lots": "/lots",
    "orders": "/orders",
    "places": "/places",
    "questions": "/orders/questions",
    "requirements": "/requirements",
    "seedcrops": "/seed-crops",
    "batch": "/batches/{batches}",
    "card": "/batches/{batches}/card",
    "dressings": "/batches/{batches}/dressings",
    "water": "/batches/{batches}/water",
    "bench-card": "/batches/{batches}/stages/pot/card",
    "later": "/sowing/later?before=2027-12-01",
    "trays": "/trays",
    "applications": "/applications",
    "clocks": "/clocks",
    "feeds": "/feeds",
    "media": "/media?older=true",
    "mothers": "/mothers?older=true",
    "mother-plans": "/mothers/plans",
    "tubers": "/tubers?older=true",
    "traps": "/traps",
    "treatments": "/lots/{lots}/treatments",
    "machines": "/machines",
    "calibration": "/batches/{batches}/calibration/{machines}",
    "lot": "/lots/{lots}",
    "descent": "/lots/{lots}/descent",
    "holds": "/lots/{lots}/holds",
    "wanting": "/lots/{lots}/field-wanting",
    "block": "/seed-blocks/{seedcrops}",
    "isolation": "/seed-blocks/{seedcrops}/isolation",
    "inspection": "/inspections/{inspection}",
    "note": "/deliveries/{deliveries}",
}


def seen(client: Client) -> dict[str, Any]:
    """What every screen shows now."""
    found: dict[str, Any] = {}
    rows: dict[str, int] = {}
    for name, path in ASKED.items():
        if set(re.findall(r"{(\w+)}", path)) - rows.keys():
            continue
        answer = client.get(f"/api{path.format(**rows)}")
        if answer.status_code != 200:
            continue
        found[name] = still(name, answer.json())
        own = _newest(name, found[name])
        if own is not None:
            rows[name if name != "block" else "inspection"] = own
    return found


def still(name: str, told: Any) -> Any:
    """What is shown of clocks, without the moment at which it was asked."""
    if name != "clocks":
        return told
    return {**{key: told[key] for key in ("clocks", "over")}, "others": [one["words"] for one in told["others"]]}


def _newest(name: str, told: Any) -> int | None:
    if name in ("batches", "lots", "machines"):
        return max((one["id"] for one in told), default=None)
    if name == "seedcrops":
        return max((one["block_id"] for one in told if one.get("block_id")), default=None)
    if name == "deliveries":
        return max((one["id"] for one in told["done"]), default=None)
    if name == "block":
        return max((one["id"] for one in told["visits"]), default=None)
    return None


def untold(before: dict[str, Any], after: dict[str, Any], touched: str | None) -> list[str]:
    """Screens that show something else although nothing they rest on is said to be touched."""
    if touched is None or "accounts" in touched.split(","):
        return []
    rooms = set(touched.split(","))
    return [
        name
        for name in sorted(before.keys() & after.keys() & RESTS.keys())
        if before[name] != after[name] and not rooms.intersection(RESTS[name])
    ]
