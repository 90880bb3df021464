"""The season line and what waits for a decision, read across rooms."""

from collections import Counter
from dataclasses import asdict, dataclass
from datetime import date, timedelta
from typing import Any

import numpy as np
from django.db.models import Max, Q, QuerySet

from aldrip.accounts.context import Ctx
from aldrip.accounts.models import AuditEvent
from aldrip.accounts.taking_back import may_be
from aldrip.base.words import plural, share
from aldrip.batches.forecasting import LIVE
from aldrip.batches.ground import Ground
from aldrip.batches.models import Batch, BatchStage
from aldrip.batches.placing import homeless
from aldrip.diary.models import Task, reckoned
from aldrip.lots.laboratory import newest
from aldrip.lots.models import Lot
from aldrip.methods.models import Method
from aldrip.methods.resolver import Library
from aldrip.orders.models import OrderLine, WaitingRow
from aldrip.seedcrops.flowering import match_of
from aldrip.seedcrops.isolation import Surroundings, judge
from aldrip.seedcrops.laying import saved_batch
from aldrip.seedcrops.models import Inspection, SeedBlock
from aldrip.seedcrops.reading import WAYS
from aldrip_core.ground import AHEAD
from aldrip_core.nick import RemedyClass
from aldrip_core.place_kinds import PLACE_KINDS
from aldrip_core.refusal import Refused
from aldrip_core.stages import Trait
from aldrip_core.units import from_base, plain, unit

OLD_TEST_DAYS = 365


@dataclass(frozen=True)
class Decision:
    """Something that waits: which room, until when, in which words, where to decide it."""

    room: str
    by: date | None
    title: str
    sentence: str
    link: str
    action: str


def decisions(ctx: Ctx, ground: Ground) -> list[Decision]:
    """Everything that waits for a decision, the most urgent first."""
    found = [
        *_batches(ctx),
        *_orders(ctx),
        *_places(ground),
        *_homeless(ctx),
        *_lots(ctx),
        *_seed_crops(ctx),
        *_seed_lots(ctx),
        *_sowing(ctx),
        *_diary(ctx),
        *_deliveries(ctx),
    ]
    return sorted(found, key=lambda d: (d.by or date.max, d.room, d.title))


def _batches(ctx: Ctx) -> list[Decision]:
    rows = ctx.rows(Batch).filter(decide_by__gte=ctx.today).select_related("crop").order_by("decide_by")
    return [
        Decision(
            "batches",
            b.decide_by,
            f"re-sow {b.code}",
            f"{b.crop.name} {b.code} came up at {share(b.counted or 0)}: {b.decide_text}.",
            f"/batches/{b.pk}",
            "See the offer",
        )
        for b in rows
    ]


def _orders(ctx: Ctx) -> list[Decision]:
    open_lines = (
        ctx.rows(OrderLine)
        .filter(state=OrderLine.State.OPEN, due__endswith__gt=ctx.today)
        .select_related("order", "crop")
    )
    # A line whose batch asks for a re-sowing waits in Batches, not here as well.
    open_lines = open_lines.exclude(allocations__batch__decide_by__gte=ctx.today)
    found = []
    asks = Q(problems__contains=[{"code": "late"}]) | Q(problems__contains=[{"code": "refused"}])
    for line in open_lines.filter(asks | Q(chance=0.0) | Q(allocations=None)).order_by("due"):
        text = line.problem or (
            f"{line.crop.name} for order {line.order.number} has no batch yet."
            if line.chance is None
            else f"Order {line.order.number} will not be filled in time."
        )
        found.append(
            Decision(
                "orders",
                line.due.upper - timedelta(days=1),
                f"order {line.order.number}",
                f"{line.order.customer}, {promised(line)} {line.crop.name.lower()}: {text}",
                f"/orders?line={line.pk}",
                "See the cures",
            )
        )
    waiting = list(ctx.rows(WaitingRow).order_by("id").values_list("row__crop", flat=True))
    if waiting:
        named = ", ".join(list(dict.fromkeys(str(name) for name in waiting if name))[:3])
        verb = "waits" if len(waiting) == 1 else "wait"
        found.append(
            Decision(
                "orders",
                None,
                f"{plural(len(waiting), 'order row')} {verb}",
                f"{plural(len(waiting), 'order row')} {verb} to be understood: {named or 'no crop written'}.",
                "/orders/import",
                "Go on with them",
            )
        )
    return found


def promised(line: OrderLine) -> str:
    """What a line promises: plants by their number, seed with its unit."""
    of = unit(line.unit)
    return plain(from_base(line.quantity, of)) + ("" if of.is_pieces else f" {of.words}")


def _homeless(ctx: Ctx) -> list[Decision]:
    """Kinds of place that planned batches asked for in vain."""
    found = []
    for one in homeless(ctx):
        name, many = PLACE_KINDS.get(one.kind, one.kind).lower(), plural(one.batches, "batch", "batches")
        ask = "asks" if one.batches == 1 else "ask"
        told = (
            f"{many} asked for a {name} before there was one."
            if one.there
            else f"{many} {ask} for a {name}, and there is none."
        )
        found.append(
            Decision(
                "places",
                None,
                f"{name} for {many}",
                told,
                "/places" if one.there else f"/places?add={one.kind}",
                "Plan again" if one.there else "Add one",
            )
        )
    return found


def _places(ground: Ground) -> list[Decision]:
    found = []
    end = ground.today + timedelta(days=120)
    for pk, lane in ground.lanes.items():
        for run in sorted(ground.over(pk, ground.today, end), key=lambda r: -r.amount)[:1]:
            week = run.start.isocalendar().week
            found.append(
                Decision(
                    "places",
                    run.start,
                    f"{lane.place.name} over",
                    f"{lane.place.name} is over by {run.amount:,.0f} {lane.place.unit.words} from {run.start:%a} {run.start.day} {run.start:%b}, week {week}.",
                    f"/batches?view=board&place={pk}",
                    "See the board",
                )
            )
    return found


def _lots(ctx: Ctx) -> list[Decision]:
    old = ctx.today - timedelta(days=OLD_TEST_DAYS)
    rows = (
        ctx.rows(Lot)
        .filter(form="seed", status="", balance__gt=0)
        .filter(Q(tested_on=None) | Q(tested_on__lt=old))
        .select_related("crop")
    )
    return [
        Decision(
            "lots",
            None,
            f"test {lot.code}",
            f"{lot.crop.name} lot {lot.code} was last tested {lot.tested_on:%d %b %Y}."
            if lot.tested_on
            else f"{lot.crop.name} lot {lot.code} was never tested.",
            f"/lots?lot={lot.pk}",
            "See the lot",
        )
        for lot in rows.order_by("tested_on")
    ]


def _seed_crops(ctx: Ctx) -> list[Decision]:
    """Blocks that ask for something: not laid out, parents that miss each other, neighbours too near, visits due."""
    found = []
    around = Surroundings(ctx, "inspections", "remedies")
    for batch in (
        ctx.rows(Batch).filter(method__way__in=WAYS, seed_block=None, state=Batch.State.PLANNED).select_related("crop")
    ):
        found.append(
            Decision(
                "seedcrops",
                None,
                f"lay out {batch.code}",
                f"{batch.crop.name} {batch.code} has no block on a field yet.",
                f"/seedcrops?batch={batch.pk}",
                "Lay it out",
            )
        )
    for block in around.blocks:
        if block.batch.state in (Batch.State.PLANNED, Batch.State.SOWN):
            found.extend(_of_block(ctx, around, block))
    return found


def _of_block(ctx: Ctx, around: Surroundings, block: SeedBlock) -> list[Decision]:
    code, link = block.batch.code, f"/seedcrops/{block.pk}"
    found = []
    for visit in block.inspections.all():
        if visit.state != Inspection.State.SIGNED and visit.planned_on <= ctx.today + timedelta(days=3):
            found.append(
                Decision(
                    "seedcrops",
                    visit.planned_on,
                    f"inspect {code}",
                    f"Inspect {block.batch.crop.name.lower()} on {block.field.name}: {visit.words.lower()}.",
                    f"/seedcrops/inspections/{visit.pk}",
                    "Count",
                )
            )
    saved = saved_batch(block)
    cut, flower = saved.with_trait(Trait.LOADS), saved.with_trait(Trait.FLOWERS)
    if cut is not None and cut.actual_start:
        return found
    try:
        match = match_of(block, today=ctx.today)
    except Refused:  # without heat sums its own stages say when
        match = None
    gap = match.now if match is not None and match.first > ctx.today else None
    if match is not None and gap is not None and gap.remedy_class is not RemedyClass.NONE and not _answered(block):
        late = "female" if gap.gap_days > 0 else "male"
        found.append(
            Decision(
                "seedcrops",
                match.first - timedelta(days=7),
                f"nick of {code}",
                f"{block.field.name}: the {late} is {abs(gap.gap_days):.0f} days late; {share(gap.overlap)} of the receptive days have pollen.",
                link,
                "See the remedies",
            )
        )
    near = judge(around, block).open
    if near:
        flowers = match.first if match else flower.planned.lower if flower else ctx.today
        worst, first = max(near, key=lambda b: b.short_m), flowers
        found.append(
            Decision(
                "seedcrops",
                max(ctx.today, first - timedelta(days=7)),
                f"isolation of {code}",
                f"{block.field.name}: a neighbour stands {worst.distance_m:,.0f} m away where {worst.required_m:,.0f} m are asked.",
                f"{link}/isolation",
                "See the cures",
            )
        )
    return found


def _answered(block: SeedBlock) -> bool:
    """Whether a remedy was chosen for a block and still stands."""
    last: dict[int, bool] = {}
    for use in sorted(block.remedies.all(), key=lambda u: u.pk):
        last[use.remedy_id] = use.chosen
    return any(last.values())


def _seed_lots(ctx: Ctx) -> list[Decision]:
    """Own seed that waits: a load to be dried, a test to be repeated, a lot to be judged."""
    found = []
    rows = (
        ctx.rows(Lot)
        .exclude(status="")
        .filter(balance__gt=0)
        .select_related("crop", "intake")
        .prefetch_related("test_results")
    )
    for lot in rows.exclude(status__in=("released", "rejected")).order_by("pk"):
        intake = getattr(lot, "intake", None)
        again = [r for r in newest(list(lot.test_results.all())).values() if r.repeat]
        if (
            lot.status == "raw"
            and intake is not None
            and intake.decision == "dry now"
            and lot.moisture_percent == intake.moisture_percent
        ):
            found.append(
                Decision(
                    "lots",
                    lot.received_on,
                    f"dry {lot.code}",
                    f"{lot.crop.name} {lot.code} came in at {intake.moisture_percent:g} %, over the {intake.limit_percent:g} % of intake.",
                    f"/lots?lot={lot.pk}",
                    "Dry it",
                )
            )
        elif again:
            found.append(
                Decision(
                    "lots",
                    None,
                    f"repeat {lot.code}",
                    f"{lot.crop.name} {lot.code}: {again[0].repeat}.",
                    f"/lots?lot={lot.pk}",
                    "See the results",
                )
            )
        elif lot.status in ("clean", "held") and not lot.test_results.exists():
            found.append(
                Decision(
                    "lots",
                    None,
                    f"test {lot.code}",
                    f"{lot.crop.name} {lot.code} is clean and not tested.",
                    f"/lots?lot={lot.pk}",
                    "Enter results",
                )
            )
        elif lot.status == "clean":
            found.append(
                Decision(
                    "lots",
                    None,
                    f"judge {lot.code}",
                    f"{lot.crop.name} {lot.code} is tested and waits for its verdict.",
                    f"/lots?lot={lot.pk}",
                    "See the verdict",
                )
            )
    return found


def _sowing(ctx: Ctx) -> list[Decision]:
    soon = ctx.today + timedelta(days=7)
    rows = (
        ctx.rows(Batch)
        .filter(
            state=Batch.State.PLANNED,
            stages__in=_first_stages(),
            stages__planned__startswith__lt=soon,
            lot=None,
            method_snapshot__by_seed=True,
        )
        .select_related("crop")
    )
    return [
        Decision(
            "sowing",
            None,
            f"lot for {b.code}",
            f"{b.crop.name} {b.code} is to be sown within a week and has no seed lot.",
            f"/sowing?card={b.pk}",
            "Choose a lot",
        )
        for b in rows
    ]


def _diary(ctx: Ctx) -> list[Decision]:
    late = reckoned(ctx.rows(Task)).filter(state=Task.State.TODO, ends__lte=ctx.today).count()
    if not late:
        return []
    return [
        Decision(
            "diary", ctx.today, "late tasks", f"{late} tasks from earlier days are still to do.", "/diary", "See them"
        )
    ]


def _deliveries(ctx: Ctx) -> list[Decision]:
    rows = (
        ctx.rows(OrderLine)
        .filter(state=OrderLine.State.OPEN, due__endswith__lte=ctx.today)
        .select_related("order", "crop")
    )
    return [
        Decision(
            "deliveries",
            ctx.today,
            f"order {line.order.number} overdue",
            f"{line.crop.name} for {line.order.customer} was due by {line.due.upper - timedelta(days=1):%a %d %b}.",
            "/deliveries",
            "Deliver or record short",
        )
        for line in rows.order_by("due")
    ]


def _first_stages() -> QuerySet[BatchStage]:
    """Of each batch the stage with which it begins."""
    return BatchStage.objects.filter(order=0)


QUIET = {
    "orders": ("line open", "lines open"),
    "methods": ("method", "methods"),
    "places": ("place", "places"),
    "batches": ("batch standing", "batches standing"),
    "sowing": ("card this week", "cards this week"),
    "seedcrops": ("seed crop", "seed crops"),
    "lots": ("lot in stock", "lots in stock"),
    "diary": ("task today", "tasks today"),
    "deliveries": ("due this week", "due this week"),
}


def quiet_counts(ctx: Ctx) -> dict[str, int]:
    """What each room holds, for the quiet line under its name."""
    week = ctx.today + timedelta(days=7)
    return {
        "orders": ctx.rows(OrderLine).filter(state=OrderLine.State.OPEN).count(),
        "methods": Library(ctx).rows(Method).count(),
        "batches": ctx.rows(Batch).filter(state__in=(Batch.State.SOWN, Batch.State.READY)).count(),
        "sowing": ctx.rows(Batch)
        .filter(
            state=Batch.State.PLANNED,
            method__way="plants",
            stages__in=_first_stages(),
            stages__planned__startswith__lt=week,
        )
        .count(),
        "seedcrops": ctx.rows(Batch).filter(method__way__in=WAYS, state__in=LIVE).count(),
        "lots": ctx.rows(Lot).filter(balance__gt=0).count(),
        "diary": reckoned(ctx.rows(Task)).filter(begins__lte=ctx.today, ends__gt=ctx.today).count(),
        "deliveries": ctx.rows(OrderLine).filter(state=OrderLine.State.OPEN, due__startswith__lt=week).count(),
    }


def _last_planned(ctx: Ctx, start: date) -> date:
    """The Monday after all that is planned: a seed crop of next year lies beyond the usual season and a half."""
    live = BatchStage.objects.filter(batch__organisation=ctx.organisation, batch__state__in=LIVE)
    newest = live.aggregate(last=Max("planned__endswith"))["last"] or start
    newest = min(newest, ctx.today + timedelta(days=AHEAD - 60))
    return date.fromordinal(newest.toordinal() + 7 - newest.weekday())


def season_line(ctx: Ctx) -> dict[str, Any]:
    """Fullness of the tightest place by day, deliveries by day, flags, and what waits in each room."""
    ground = Ground(ctx)
    start = ctx.today - timedelta(days=ctx.today.weekday() + 7 * 27)
    end = max(start + timedelta(days=7 * 78), _last_planned(ctx, start))
    first, last = ground.index(start), ground.index(end)
    shares = [
        lane.load[first:last] / lane.usable for lane in ground.lanes.values() if lane.usable and not lane.place.whole
    ]
    fullest = np.max(shares, axis=0) if shares else np.zeros(last - first)
    due = Counter(
        lower
        for lower in (
            d.lower
            for d in ctx.rows(OrderLine)
            .exclude(state=OrderLine.State.CANCELLED)
            .filter(due__overlap=(start, end))
            .values_list("due", flat=True)
        )
    )
    waiting = decisions(ctx, ground)
    by_room = Counter(d.room for d in waiting)
    quiet = {**quiet_counts(ctx), "places": sum(not lane.place.closed for lane in ground.lanes.values())}
    first_said: dict[str, Decision] = {}
    for decision in waiting:
        first_said.setdefault(decision.room, decision)
    kept = ctx.rows(AuditEvent).exclude(action__startswith="demo.").order_by("-id").first()
    return {
        "today": ctx.today,
        "start": start,
        "end": end,
        "fullness": [round(float(x), 4) for x in fullest],
        "ticks": [{"day": day, "count": count} for day, count in sorted(due.items()) if start <= day < end],
        "flags": [
            {"by": d.by, "title": d.title, "link": d.link, "room": d.room}
            for d in waiting
            if d.by and d.room in ("batches", "places", "orders", "seedcrops")
        ][:12],
        "decisions": [asdict(d) for d in waiting[:60]],
        "rooms": [
            {
                "room": room,
                "waiting": by_room.get(room, 0),
                "line": first_said[room].title if room in first_said else plural(quiet.get(room, 0), *words),
            }
            for room, words in QUIET.items()
        ],
        "last": None
        if kept is None
        else {
            "id": kept.pk,
            "sentence": kept.sentence,
            "can_undo": kept.action in ("batch.keep", "batch.new", "batch.resow") and kept.undone_by_id is None,
            "can_take_back": may_be(ctx, kept),
        },
    }
