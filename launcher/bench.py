"""`./aldrip bench`: ratios measured side by side in one run, in a cluster of its own with fsync on."""

import argparse
import gzip
import json
import os
import re
import statistics
import sys
import time
from collections.abc import Callable
from dataclasses import asdict
from functools import partial
from pathlib import Path
from typing import Any

from launcher import bench_big, bench_browser, bench_demo
from launcher.bench_big import Measure

ROOT = Path(__file__).resolve().parent.parent
LINES = 5000
PREVIEWS = 200


def main() -> int:
    options = argparse.ArgumentParser(prog="aldrip bench")
    options.add_argument("--list", action="store_true", help="name every measure with its yardstick")
    options.add_argument("--only", nargs="+", metavar="NAME", help="run some of them")
    options.add_argument("--json", action="store_true", help="print the results as JSON")
    options.add_argument("--lines", type=int, default=LINES, help="order lines of season-save")
    chosen = options.parse_args()
    if chosen.list:
        for name, (_, words) in MEASURES.items():
            print(f"{name:14} {words}")
        return 0
    unknown = set(chosen.only or ()) - set(MEASURES)
    if unknown:
        print(f"There is no measure “{', '.join(sorted(unknown))}”; --list names them.", file=sys.stderr)
        return 2
    found = []
    for name in chosen.only or MEASURES:
        print(f"measuring {name} …", file=sys.stderr, flush=True)
        found.append(MEASURES[name][0](chosen))
    if chosen.json:
        print(json.dumps([asdict(one) for one in found]))
    else:
        for one in found:
            met = "met" if one.ratio <= one.aim else "missed"
            print(
                f"{one.name:14} {one.value:10.4g} against {one.yardstick:10.4g}  ratio {one.ratio:6.2f}  aim {one.aim:g}: {met}"
            )
            if one.note:
                print(f"{'':14} {one.note}")
    return 0


def _django() -> None:
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "aldrip.settings")
    import django

    django.setup()


def _fresh_house(places_scale: float = 1.0) -> Any:
    from django.core.management import call_command

    from aldrip.methods.library import load_library
    from tests.server.house import make_house

    call_command("migrate", verbosity=0)
    call_command("flush", interactive=False, verbosity=0)
    load_library()
    ctx = make_house("Bench")
    for place in ctx.organisation.places.all():
        if place.capacity:
            place.capacity *= 100 * places_scale
            place.save()
    return ctx


def _rows(count: int) -> list[dict[str, str]]:
    """Invented order lines: a season of plugs, quantities in hundreds, spread over a year of weeks."""
    crops = ("Pak choi", "Endive", "Bulb fennel", "Statice", "Zinnia", "Celeriac")
    from tests.server.house import order_row

    found = []
    for n in range(count):
        year, week = (2027, 37 + n % 15) if n % 4 else (2028, 1 + n % 30)
        found.append(
            order_row(
                order=str(10_000 + n // 4),
                customer=f"Customer {n // 4}",
                crop=crops[n % 6],
                quantity=str(2000 + 100 * (n * 7 % 150)),
                due=f"{year}-W{week:02d}",
                note=str(n),
            )
        )
    return found


TABLES = (
    "orders_order",
    "orders_orderline",
    "batches_batch",
    "batches_batchstage",
    "batches_batchinput",
    "batches_occupancy",
    "diary_task",
    "batches_allocation",
)


def season_save(chosen: argparse.Namespace) -> Measure:
    """Parsed lines → commit of the planned season ÷ COPY of exactly the rows it wrote."""
    _django()
    from django.db import connection, transaction

    from aldrip.batches.starting import plan_lines
    from aldrip.orders import services as orders
    from tests.server.house import seed_lot

    ours, copies, wrote = [], [], {}
    for _ in range(5):
        ctx = _fresh_house()
        seed_lot(ctx, grams=10**7)
        rows = _rows(chosen.lines)
        began = time.perf_counter()
        with transaction.atomic():
            plan_lines(ctx, orders.take_in(ctx, rows))
        ours.append(time.perf_counter() - began)
        with connection.cursor() as cursor:
            dumped = {}
            for table in TABLES:
                with cursor.copy(f"copy {table} to stdout") as copy:
                    dumped[table] = b"".join(bytes(part) for part in copy)
                wrote[table] = dumped[table].count(b"\n")
            cursor.execute(f"truncate {', '.join(TABLES)} cascade")
        began = time.perf_counter()
        with transaction.atomic(), connection.cursor() as cursor:
            for table in TABLES:
                with cursor.copy(f"copy {table} from stdin") as copy:
                    copy.write(dumped[table])
        copies.append(time.perf_counter() - began)
    value, yardstick = statistics.median(ours), statistics.median(copies)
    note = f"{chosen.lines} lines; {sum(wrote.values()):,} rows; what is left is the planning and checking of {value / chosen.lines * 1000:.2f} ms a line"
    return Measure("season-save", value, yardstick, value / yardstick, 2.5, note)


def edit_preview(chosen: argparse.Namespace) -> Measure:
    """Median preview ÷ median request that returns the same rows by key, one worker, one session."""
    _django()
    from django.conf import settings
    from django.test import Client

    settings.ROOT_URLCONF = "launcher.bench_urls"
    from aldrip.batches.models import Batch, Occupancy
    from aldrip.batches.starting import plan_lines
    from aldrip.orders import services as orders
    from tests.server.house import seed_lot

    ctx = _fresh_house(0.01)
    seed_lot(ctx, grams=10**6)
    plan_lines(ctx, orders.take_in(ctx, _rows(70)))
    client = Client()
    client.force_login(ctx.user)
    batches = list(Batch.objects.values_list("id", flat=True)[:20])
    places = {pk: set(Occupancy.objects.filter(stage__batch=pk).values_list("place_id", flat=True)) for pk in batches}
    assert all(places.values())

    def timed(call: Callable[[int], Any], pk: int) -> float:
        began = time.perf_counter()
        answer = call(pk)
        spent = time.perf_counter() - began
        assert answer.status_code == 200, answer.content[:300]
        return spent

    def preview(pk: int) -> Any:
        return client.post(f"/api/batches/{pk}/preview", {"shift_days": 7}, content_type="application/json")

    def by_key(pk: int) -> Any:
        return client.get(f"/bench/batches/{pk}/rows")

    for pk in batches:
        timed(preview, pk), timed(by_key, pk)
    ours, keys = [], []
    for n in range(PREVIEWS):
        pk = batches[n % len(batches)]
        ours.append(timed(preview, pk))
        keys.append(timed(by_key, pk))
    value, yardstick = statistics.median(ours), statistics.median(keys)
    return Measure("edit-preview", value, yardstick, value / yardstick, 2.5, f"{PREVIEWS} previews among 70 batches")


def first_js(chosen: argparse.Namespace) -> Measure:
    """Gzip bytes of all scripts that a cold load of sign-in and the first room asks for, in kB."""
    dist = ROOT / "web" / "dist"
    names = set(re.findall(r'(?:src|href)="/(assets/[^"]+\.js)"', (dist / "index.html").read_text()))
    entry = set(names)
    for wanted in ("Frame-", "Diary-"):
        names |= {f"assets/{path.name}" for path in (dist / "assets").glob(f"{wanted}*.js")}
    while True:
        more = set()
        for name in names:
            text = (dist / name).read_text(encoding="utf-8")
            static = re.findall(r'(?:from|import)\s*"\./([^"]+\.js)"', text)
            more |= {f"assets/{one}" for one in static}
        if more <= names:
            break
        names |= more
    total = sum(len(gzip.compress((dist / name).read_bytes(), 9)) for name in names) / 1000
    return Measure(
        "first-js", total, 150, total / 150, 1, f"{len(names)} scripts, {len(entry)} of them at once; aim 150 kB"
    )


def _risk(chosen: argparse.Namespace) -> Measure:
    import numpy as np

    from aldrip_core.distributions import Spread
    from aldrip_core.risk import Cause, Drawn, Promise, draw

    del chosen
    any_ = np.random.default_rng(1)
    rates, units = any_.uniform(0.5, 0.95, 500), any_.integers(200, 20_000, 500)
    promises = [
        Promise(
            n,
            units[n] * rates[n],
            (
                Drawn(
                    int(units[n]),
                    Spread.from_mean_sd(float(rates[n]), 0.04),
                    (Cause(("lot", n % 40), 0.3), Cause("season", 0.1)),
                ),
            ),
        )
        for n in range(500)
    ]

    def drawn() -> None:
        draw(promises)

    def bare() -> None:
        rng = np.random.default_rng(27)
        for n in range(500):
            rng.binomial(units[n], np.clip(rates[n] + 0.04 * rng.standard_normal(10_000), 0, 1))

    took = []
    for work in (drawn, bare):
        work()
        began = time.perf_counter()
        work()
        took.append(time.perf_counter() - began)
    return Measure(
        "risk", took[0], took[1], took[0] / took[1], 2.0, f"{took[0] * 1000:.0f} ms against {took[1] * 1000:.0f} ms"
    )


def _calibration(chosen: argparse.Namespace) -> Measure:
    from tests.reference.test_risk import kept_share

    del chosen
    found = [(chance, *kept_share(chance)) for chance in (0.95, 0.8)]
    worst = max(abs(kept - chance) for chance, kept, _ in found)
    note = "; ".join(
        f"{chance:.0%} promised, {kept:.1%} kept (a tenth on top: {habit:.1%})" for chance, kept, habit in found
    )
    return Measure("calibration", worst, 0.03, worst / 0.03, 1.0, note)


SEASONS = (0, 1, 2, 4, 7)  # two that are solved, one that is hard, one that is near, one in which not all can fit


def _levelling(chosen: argparse.Namespace) -> Measure:
    from aldrip_core.levelling import first_fit, level
    from tests.reference.test_levelling import season

    del chosen
    found = []
    for seed in SEASONS:
        problem = season(seed)
        one = level(problem, seconds=60)
        found.append((one.price / max(1, one.bound), one, problem.price(first_fit(problem))))
    ratio, worst, _ = max(found, key=lambda one: one[0])
    note = "; ".join(
        f"{one.price:,} against a bound of {one.bound:,}, so {1 - one.price / one.before:.2%} of what stood is taken away where"
        f" {1 - one.bound / one.before:.2%} may be to be had (as it stood {one.before:,}, one after another {fit:,})"
        for _, one, fit in found
    )
    return Measure("levelling", float(worst.price), float(worst.bound), ratio, 1.05, note)


def _mother_plan(chosen: argparse.Namespace) -> Measure:
    """All of a plan but the search itself, against a bare model of as many variables and numbers."""
    from unittest.mock import patch

    import numpy as np
    from ortools.linear_solver import pywraplp

    from aldrip_core import mother_plants as planner

    del chosen
    weeks, cuts, hold, later, generations = 52, 2, 2, 5, 8
    shoots = [0.0, 0, 0] + [1.15**n for n in range(12)] + [1.15**11 * 0.75**n for n in range(1, 22)]
    searching: list[float] = []

    def timed(solver: Any, search: Callable[[Any], None] = planner._searched) -> None:
        began = time.perf_counter()
        search(solver)
        searching.append(time.perf_counter() - began)

    def whole() -> float:
        searching.clear()
        began = time.perf_counter()
        with patch.object(planner, "_searched", timed), patch.object(planner, "_latest", lambda *_: None):
            planner.mother_plants(
                weekly_demand=[0.0] * 20 + [9000.0] * (weeks - 20),
                shoots_by_age_weeks=shoots,
                first_cut_week=3,
                mother_life_weeks=35,
                submother_cuts=cuts,
                rooting_rate=0.9,
                hardening_rate=0.95,
                rooting_weeks=3,
                hardening_weeks=later - 3,
                hold_weeks=hold,
                horizon_weeks=weeks,
                submother_generations=generations,
            )
        return time.perf_counter() - began - sum(searching)

    def bare() -> float:
        began = time.perf_counter()
        solver = pywraplp.Solver.CreateSolver("SCIP")
        far = solver.infinity()
        starts = [solver.IntVar(0, far, "") for _ in range(weeks)]
        rest = [solver.NumVar(0, far, "") for _ in range((3 + hold) * weeks)]
        numbers = np.ones(weeks)
        for week in range(weeks):
            row = solver.Constraint(-far, 0)
            for start in range(week + 1):
                row.SetCoefficient(starts[start], -float(numbers[week - start]))
            for one in rest[week::weeks]:
                row.SetCoefficient(one, 1)
        return time.perf_counter() - began

    whole()
    took, yard = (statistics.median(work() for _ in range(15)) for work in (whole, bare))
    note = f"{took * 1000:.1f} ms against {yard * 1000:.1f} ms; {weeks} weeks, of {cuts} cuts mothers are made over {generations} generations"
    return Measure("mother-plan", took, yard, took / yard, 3.0, note)


MEASURES: dict[str, tuple[Callable[[argparse.Namespace], Measure], str]] = {
    "season-save": (
        season_save,
        "parsed lines to commit of 5 000 order lines ÷ COPY of exactly the rows it wrote; aim 2.5",
    ),
    "replanning": (bench_demo.measure, bench_demo.WORDS),
    "edit-preview": (
        edit_preview,
        "median of 200 previews ÷ median of requests that return the same rows by key; aim 2.5",
    ),
    **{name: (partial(bench_big.measure, name), words) for name, words in bench_big.WORDS.items()},
    "risk": (_risk, "10 000 futures of 500 batches with causes in common ÷ numpy drawing as many variates; aim 2"),
    "calibration": (
        _calibration,
        "how far 500 seasons of 40 lines with causes in common keep more or less than was promised ÷ three in a hundred; aim 1",
    ),
    "levelling": (
        _levelling,
        "what a levelling found in 60 s ÷ its own bound, the worst of 5 seasons of 300 batches, 12 places, 40 weeks; aim 1.05",
    ),
    "mother-plan": (
        _mother_plan,
        "a plan of 52 weeks without the search itself ÷ a bare model of as many variables and numbers; aim 3",
    ),
    "browser": (bench_browser.measure, bench_browser.WORDS),
    "first-js": (first_js, "gzip kB of the scripts of a cold load of sign-in and first room ÷ 150 kB; aim 1"),
}

if __name__ == "__main__":
    sys.exit(main())
