"""The bench's hundredfold demo: its open promises planned anew, in places a hundred times as large."""

import argparse
import os
import statistics
import time
from typing import Any

from launcher.bench_big import Measure

TIMES, RUNS = 100, 3
AIM = 3.0
WORDS = "the demo's open promises × 100 planned anew ÷ COPY of the rows that were written; aim 3"
#: What planning writes, in the order in which it may be written.
PLANNED = (
    "batches_batch",
    "batches_batchstage",
    "batches_batchinput",
    "batches_occupancy",
    "diary_task",
    "batches_allocation",
)


def measure(chosen: argparse.Namespace) -> Measure:
    """Seconds of planning against seconds of COPY."""
    del chosen
    os.environ.update(ALDRIP_DEMO="1")
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "aldrip.settings")
    import django

    django.setup()
    from django.db import connection, transaction

    from aldrip.base.circles import hunt_less
    from aldrip.batches.starting import plan_lines

    ctx, lines = _hundredfold()
    hunt_less()  # as every process that serves does
    ours, copies, wrote = [], [], 0
    with connection.cursor() as cursor:
        cursor.execute("analyze")
        for _ in range(RUNS):
            cursor.execute("select " + ", ".join(f"(select coalesce(max(id), 0) from {table})" for table in PLANNED))
            highest = dict(zip(PLANNED, cursor.fetchone(), strict=True))
            began = time.perf_counter()
            plan_lines(ctx, lines)
            ours.append(time.perf_counter() - began)
            dumped = {}
            for table in PLANNED:
                with cursor.copy(f"copy (select * from {table} where id > {highest[table]}) to stdout") as copy:
                    dumped[table] = b"".join(bytes(part) for part in copy)
            wrote = sum(rows.count(b"\n") for rows in dumped.values())
            _forget(cursor, highest)
            began = time.perf_counter()
            with transaction.atomic():
                for table in PLANNED:
                    with cursor.copy(f"copy {table} from stdin") as copy:
                        copy.write(dumped[table])
            copies.append(time.perf_counter() - began)
            _forget(cursor, highest)
    value, yardstick = statistics.median(ours), statistics.median(copies)
    note = f"{len(lines):,} lines; {wrote:,} rows; {value / len(lines) * 1000:.2f} ms a line"
    return Measure("replanning", value, yardstick, value / yardstick, AIM, note)


def _forget(cursor: Any, highest: dict[str, int]) -> None:
    for table in reversed(PLANNED):
        cursor.execute(f"delete from {table} where id > {highest[table]}")


def _hundredfold() -> tuple[Any, list[int]]:
    """The demo, with everything that is still to be delivered a hundred times, and what it needs as often."""
    from uuid import uuid4

    from django.core.management import call_command
    from django.db.models import F

    from aldrip.accounts.context import Ctx
    from aldrip.accounts.models import Member
    from aldrip.demo.loader import load
    from aldrip.lots.models import Lot
    from aldrip.methods.library import load_library
    from aldrip.orders.models import Order, OrderLine
    from aldrip.places.models import Place

    call_command("migrate", verbosity=0)
    call_command("flush", interactive=False, verbosity=0)
    load_library()
    load()
    member = Member.objects.select_related("user", "organisation").get(user__username="manager")
    ctx = Ctx(member.organisation, member.user, member.role)
    Place.objects.exclude(capacity=None).update(capacity=F("capacity") * TIMES)
    Lot.objects.update(balance=F("balance") * TIMES)
    named = [f.attname for f in OrderLine._meta.concrete_fields if f.attname not in ("id", "uuid", "order_id")]
    lines = OrderLine.objects.filter(state="open", due__startswith__gt=ctx.today).select_related("order")
    made = []
    for line in lines:
        orders = Order.objects.bulk_create(
            Order(
                organisation=ctx.organisation,
                number=f"{line.pk} {n}",
                customer=line.order.customer,
                received_on=ctx.today,
            )
            for n in range(TIMES)
        )
        fresh = {name: getattr(line, name) for name in named} | {"delivered": 0}
        made += OrderLine.objects.bulk_create(OrderLine(uuid=uuid4(), order=order, **fresh) for order in orders)
    return ctx, [one.pk for one in made]
