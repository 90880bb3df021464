"""The bench's large nursery: this season's batches, as many of each of four years past, and thousands of open lines."""

import argparse
import os
import statistics
import time
from dataclasses import dataclass
from datetime import timedelta
from functools import cache
from typing import Any

BATCHES = 2000
LINES = 5000
YEARS = 4
SMALL = 10  # how many times smaller the small one is
TIMES = 9


@dataclass
class Measure:
    """One ratio: what was measured, its yardstick, what is aimed for, and what it tells."""

    name: str
    value: float
    yardstick: float
    ratio: float
    aim: float
    note: str = ""


WORDS = {
    "board": "the season board of half a year ÷ the bare query of its rows, 2 000 batches with four past years; aim 3",
    "batch-list": "the list of batches ÷ the bare query of its rows, same house; aim 3",
    "order-list": "the list of 5 000 open lines ÷ the bare query of its rows, same house; aim 3",
    "season-line": "the season line ÷ the bare query of its rows, same house; aim 3",
    "keep": "a kept edit ÷ its preview, same house; aim 4",
    "asking": "“can we take it?” ÷ one preview, same house; aim 5",
    "growth": "the worst of those six at 2 000 batches ÷ ten times what it is at 200; aim 1",
}
AIMS = {
    **dict.fromkeys(("board", "batch-list", "order-list", "season-line"), 3.0),
    "keep": 4.0,
    "asking": 5.0,
    "growth": 1.0,
}


@cache
def timings(share: int = 1) -> dict[str, tuple[float, float]]:
    """Median seconds of each screen and of its yardstick, in a house that is `share` times smaller."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "aldrip.settings")
    import django

    django.setup()
    from django.conf import settings
    from django.test import Client

    settings.ROOT_URLCONF = "launcher.bench_urls"
    ctx = _house(BATCHES // share, LINES // share)
    client = Client()
    client.force_login(ctx.user)

    def get(path: str) -> float:
        began = time.perf_counter()
        answer = client.get(path)
        spent = time.perf_counter() - began
        assert answer.status_code == 200, answer.content[:300]
        return spent

    days = f"?start={ctx.today - timedelta(days=14)}&end={ctx.today + timedelta(days=168)}"
    found = {}
    for name, path in (
        ("board", f"/board{days}"),
        ("batch-list", "/batches"),
        ("order-list", "/orders"),
        ("season-line", "/season-line"),
    ):
        get(f"/api{path}"), get(f"/bench{path}")
        ours, bare = zip(*((get(f"/api{path}"), get(f"/bench{path}")) for _ in range(TIMES)), strict=True)
        found[name] = statistics.median(ours), statistics.median(bare)
    keeping = _keeping(client)
    found["keep"] = keeping
    found["asking"] = _asking(client), keeping[1]
    return found


def _asking(client: Any) -> float:
    """Questions for many amounts and weeks, some of which can be taken and some of which cannot."""
    from aldrip.methods.models import Crop

    crops = list(Crop.objects.filter(slug__in=("pak-choi", "statice", "celeriac")).values_list("pk", flat=True))
    spent = []
    for n in range(2 * TIMES):
        body = {"crop_id": crops[n % 3], "form": "plug", "quantity": str(3000 * (n + 1)), "due": f"2028-W{8 + n}"}
        began = time.perf_counter()
        answer = client.post("/api/orders/can-we-take-it", body, content_type="application/json")
        spent.append(time.perf_counter() - began)
        assert answer.status_code == 200, answer.content[:300]
    return statistics.median(spent)


def _keeping(client: Any) -> tuple[float, float]:
    """A preview and then the keeping of it, batch after batch."""
    from aldrip.batches.models import Batch

    kept, seen = [], []
    for pk in Batch.objects.filter(state="planned").order_by("id").values_list("pk", flat=True)[:TIMES]:
        for days in (7, -7):
            began = time.perf_counter()
            preview = client.post(f"/api/batches/{pk}/preview", {"shift_days": days}, content_type="application/json")
            seen.append(time.perf_counter() - began)
            assert preview.status_code == 200, preview.content[:300]
            body = {"version": preview.json()["version"], "change": {"shift_days": days}}
            began = time.perf_counter()
            answer = client.post(f"/api/batches/{pk}/keep", body, content_type="application/json")
            kept.append(time.perf_counter() - began)
            assert answer.status_code == 200, answer.content[:300]
    return statistics.median(kept), statistics.median(seen)


def _house(batches: int, lines: int) -> Any:
    from aldrip.batches.starting import plan_lines
    from aldrip.orders import services as orders
    from launcher.bench import _fresh_house, _rows
    from tests.server.house import seed_lot

    ctx = _fresh_house()
    seed_lot(ctx, grams=10**7)
    made = orders.take_in(ctx, _rows(lines))
    plan_lines(ctx, made[:batches])
    for year in range(1, YEARS + 1):
        _as_of_a_year(year)
    from django.db import connection

    with connection.cursor() as cursor:
        cursor.execute("analyze")
    return ctx


#: This season once more, so many years ago and over: tables in order, with the columns that name rows of others.
COPIED: dict[str, tuple[str, ...]] = {
    "orders_order": (),
    "orders_orderline": ("order_id",),
    "batches_batch": (),
    "batches_batchstage": ("batch_id",),
    "batches_occupancy": ("stage_id",),
    "batches_allocation": ("order_line_id", "batch_id"),
    "diary_task": (),
}
APART = 10_000_000


def _as_of_a_year(year: int) -> None:
    from django.db import connection

    back, shift = f"{364 * year}", APART * year
    ended = {"orders_orderline": "'delivered'", "batches_batch": "'delivered'", "diary_task": "'done'"}
    with connection.cursor() as cursor:
        for table, named in COPIED.items():
            cursor.execute(
                "select column_name, data_type from information_schema.columns where table_name = %s", [table]
            )
            columns = dict(cursor.fetchall())
            values = []
            for column, kind in columns.items():
                value = f'"{column}"'
                if column == "id" or column in named:
                    value = f"{value} + {shift}"
                elif column in ("uuid", "subject", "client_uuid"):
                    value = "gen_random_uuid()"
                elif column in ("code", "number") and table != "orders_orderline":
                    value = f"{value} || 'y{year}'"
                elif column == "state":
                    value = ended[table]
                elif column in ("actual_start", "actual_end"):
                    value = f"{'lower' if column == 'actual_start' else 'upper'}(planned) - {back}"
                elif kind == "daterange":
                    value = f"daterange(lower({value}) - {back}, upper({value}) - {back})"
                elif kind == "date":
                    value = f"{value} - {back}"
                values.append(value)
            names = ", ".join(f'"{column}"' for column in columns)
            cursor.execute(f"insert into {table} ({names}) select {', '.join(values)} from {table} where id < {APART}")


def measure(name: str, chosen: argparse.Namespace) -> Measure:
    """One of the measures of the large nursery."""
    del chosen
    large = timings()
    if name != "growth":
        value, yardstick = large[name]
        return Measure(
            name,
            value,
            yardstick,
            value / yardstick,
            AIMS[name],
            f"{value * 1000:.0f} ms against {yardstick * 1000:.0f} ms",
        )
    small = timings(SMALL)
    worst = max(large, key=lambda one: large[one][0] / small[one][0])
    value, yardstick = large[worst][0], small[worst][0] * SMALL
    told = ", ".join(f"{one} {large[one][0] / small[one][0]:.1f}×" for one in large)
    return Measure(name, value, yardstick, value / yardstick, AIMS[name], f"ten times the batches: {told}")
