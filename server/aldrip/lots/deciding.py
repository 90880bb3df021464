"""What waits in Lots: seed to be tested, dried, tested again or judged."""

from collections.abc import Iterable
from datetime import timedelta
from typing import Any

from django.db.models import prefetch_related_objects

from aldrip.accounts.decisions import Decision, Look, Words, asks
from aldrip.lots.laboratory import standing_among
from aldrip.lots.models import Lot, Status
from aldrip.lots.releasing import barred

OLD_TEST_DAYS = 365


def _standing(look: Look) -> list[Lot]:
    """Seed that is in stock, bought and own; read once a look."""
    if "seed" not in look.once:
        rows = look.ctx.rows(Lot).filter(balance__gt=0).exclude(status=Status.REJECTED)
        look.once["seed"] = list(rows.select_related("crop", "intake").order_by("pk"))
    found: list[Lot] = look.once["seed"]
    return found


@asks(
    old_test=lambda d: Words(
        f"test {d['lot']}",
        f"{d['crop']} lot {d['lot']} was last tested {d['tested']:%d %b %Y}."
        if d["tested"]
        else f"{d['crop']} lot {d['lot']} was never tested.",
        "See the lot",
    )
)
def old_tests(look: Look) -> Iterable[Decision]:
    """Bought seed that was never tested, or long ago."""
    long_ago = look.ctx.today - timedelta(days=OLD_TEST_DAYS)
    bought = (lot for lot in _standing(look) if lot.form == "seed" and not lot.status)
    for lot in (lot for lot in bought if lot.tested_on is None or lot.tested_on < long_ago):
        data = {"lot": lot.code, "crop": lot.crop.name, "tested": lot.tested_on}
        yield Decision("lots", "old_test", lot.code, data, f"/lots?lot={lot.pk}")


@asks(
    expired=lambda d: Words(
        f"test {d['lot']}",
        f"{d['crop']} {d['lot']} is released and may not leave: {d['why']}.",
        "See the results",
    )
)
def released(look: Look) -> Iterable[Decision]:
    """Released seed whose results no longer hold."""
    ctx = look.ctx
    rows = [lot for lot in _standing(look) if lot.form == "seed" and lot.status == Status.RELEASED]
    why = barred(ctx, rows, ctx.today)
    for lot in rows:
        if lot.pk in why:
            data = {"lot": lot.code, "crop": lot.crop.name, "why": why[lot.pk]}
            yield Decision("lots", "expired", lot.code, data, f"/lots?lot={lot.pk}", ctx.today)


@asks(
    dry=lambda d: Words(
        f"dry {d['lot']}",
        f"{d['crop']} {d['lot']} came in at {d['moisture']:g} %, over the {d['limit']:g} % of intake.",
        "Dry it",
        "dried before it is cleaned",
    ),
    repeat=lambda d: Words(
        f"repeat {d['lot']}", f"{d['crop']} {d['lot']}: {d['why']}.", "See the results", "no release until then"
    ),
    untested=lambda d: Words(
        f"test {d['lot']}", f"{d['crop']} {d['lot']} is clean and not tested.", "Enter results", "no release until then"
    ),
    judge=lambda d: Words(
        f"judge {d['lot']}",
        f"{d['crop']} {d['lot']} is tested and waits for its verdict.",
        "See the verdict",
        "may not leave until then",
    ),
)
def own_seed(look: Look) -> Iterable[Decision]:
    """Own seed that waits for its next step."""
    rows = [lot for lot in _standing(look) if lot.status not in ("", Status.RELEASED)]
    prefetch_related_objects(rows, "test_results")
    for lot in rows:
        asked = _asked(lot)
        if asked is not None:
            code, more = asked
            data = {"lot": lot.code, "crop": lot.crop.name, **more}
            by = lot.received_on if code == "dry" else None
            yield Decision("lots", code, lot.code, data, f"/lots?lot={lot.pk}", by)


def _asked(lot: Lot) -> tuple[str, dict[str, Any]] | None:
    intake = getattr(lot, "intake", None)
    as_it_came = intake is not None and lot.moisture_percent == intake.moisture_percent
    if (
        intake is not None
        and as_it_came
        and lot.status == "raw"
        and intake.limit_percent is not None
        and intake.moisture_percent > intake.limit_percent
    ):
        return "dry", {"moisture": intake.moisture_percent, "limit": intake.limit_percent}
    results = list(lot.test_results.all())
    again = [r for r in standing_among(results).values() if r.repeat]
    if again:
        return "repeat", {"why": again[0].repeat}
    if lot.status in ("clean", "held") and not results:
        return "untested", {}
    return ("judge", {}) if lot.status == "clean" else None
