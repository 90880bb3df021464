"""What waits in Lots: seed to be tested, dried, tested again or judged."""

from collections.abc import Iterable
from datetime import timedelta
from typing import Any

from django.db.models import Q

from aldrip.accounts.decisions import Decision, Look, Words, asks
from aldrip.lots.laboratory import newest
from aldrip.lots.models import Lot, Status
from aldrip.lots.releasing import barred

OLD_TEST_DAYS = 365


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
    ctx = look.ctx
    rows = ctx.rows(Lot).filter(form="seed", status="", balance__gt=0).select_related("crop")
    old = Q(tested_on=None) | Q(tested_on__lt=ctx.today - timedelta(days=OLD_TEST_DAYS))
    for lot in rows.filter(old).order_by("tested_on"):
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
    rows = list(ctx.rows(Lot).filter(form="seed", status=Status.RELEASED, balance__gt=0).select_related("crop"))
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
    ),
    repeat=lambda d: Words(f"repeat {d['lot']}", f"{d['crop']} {d['lot']}: {d['why']}.", "See the results"),
    untested=lambda d: Words(f"test {d['lot']}", f"{d['crop']} {d['lot']} is clean and not tested.", "Enter results"),
    judge=lambda d: Words(
        f"judge {d['lot']}", f"{d['crop']} {d['lot']} is tested and waits for its verdict.", "See the verdict"
    ),
)
def own_seed(look: Look) -> Iterable[Decision]:
    """Own seed that waits for its next step."""
    rows = look.ctx.rows(Lot).exclude(status="").exclude(status__in=("released", "rejected")).filter(balance__gt=0)
    for lot in rows.select_related("crop", "intake").prefetch_related("test_results").order_by("pk"):
        asked = _asked(lot)
        if asked is not None:
            code, more = asked
            data = {"lot": lot.code, "crop": lot.crop.name, **more}
            by = lot.received_on if code == "dry" else None
            yield Decision("lots", code, lot.code, data, f"/lots?lot={lot.pk}", by)


def _asked(lot: Lot) -> tuple[str, dict[str, Any]] | None:
    intake = getattr(lot, "intake", None)
    as_it_came = intake is not None and lot.moisture_percent == intake.moisture_percent
    if intake is not None and as_it_came and lot.status == "raw" and intake.decision == "dry now":
        return "dry", {"moisture": intake.moisture_percent, "limit": intake.limit_percent}
    results = list(lot.test_results.all())
    again = [r for r in newest(results).values() if r.repeat]
    if again:
        return "repeat", {"why": again[0].repeat}
    if lot.status in ("clean", "held") and not results:
        return "untested", {}
    return ("judge", {}) if lot.status == "clean" else None
