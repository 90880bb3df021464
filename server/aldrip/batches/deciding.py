"""What waits in Batches, Places and Sowing: re-sowings, places that are too full or missing, batches without a lot."""

from collections.abc import Iterable
from datetime import timedelta

from aldrip.accounts.decisions import Decision, Look, Words, asks
from aldrip.base.words import chance, plural, share
from aldrip.batches.ground import Ground
from aldrip.batches.models import Allocation, Batch, BatchStage, Question, SetAside
from aldrip.batches.placing import homeless
from aldrip.lots.releasing import barred
from aldrip.orders.models import OrderLine
from aldrip_core.place_kinds import PLACE_KINDS

AHEAD_DAYS = 120  # in which a place that is too full is told
SOON_DAYS = 7
HOLD_ENDS_DAYS = 2  # before which whoever holds something for a question is reminded
TEST_DAYS = 28  # in which a laboratory gives a result of germination; common practice, no source


def promise_of(look: Look, batch_id: int) -> str:
    """How the least likely of the promises that hang on a batch stands now, in words."""
    if "promises" not in look.once:
        rows = Allocation.objects.filter(
            batch__organisation=look.ctx.organisation,
            order_line__state=OrderLine.State.OPEN,
            order_line__chance__isnull=False,
        )
        worst: dict[int, tuple[float, str]] = {}
        for batch, at, number in rows.values_list("batch_id", "order_line__chance", "order_line__order__number"):
            assert at is not None
            worst[batch] = min(worst.get(batch, (2.0, "")), (at, number))
        look.once["promises"] = worst
    if batch_id not in look.once["promises"]:
        return ""
    at, number = look.once["promises"][batch_id]
    return f"order {number} stands at {chance(at)}"


@asks(
    resow=lambda d: Words(
        f"re-sow {d['batch']}",
        f"{d['crop']} {d['batch']} came up at {share(d['counted'])}: {d['offer']}.",
        "See the remedy",
        d["stands"],
    )
)
def resow(look: Look) -> Iterable[Decision]:
    """Batches that are to be sown again, until a day."""
    ctx = look.ctx
    for b in ctx.rows(Batch).filter(decide_by__gte=ctx.today).select_related("crop").order_by("decide_by"):
        data = {"batch": b.code, "crop": b.crop.name, "counted": b.counted or 0, "offer": b.decide_text}
        data["stands"] = promise_of(look, b.pk)
        yield Decision("batches", "resow", b.code, data, f"/batches/{b.pk}", b.decide_by)


@asks(
    over=lambda d: Words(
        f"{d['place']} over",
        f"{d['place']} is over by {d['amount']:,.0f} {d['unit']} from {d['start']:%a} {d['start'].day} {d['start']:%b}, "
        f"week {d['start'].isocalendar().week}.",
        "See the board",
    )
)
def over(look: Look) -> Iterable[Decision]:
    """Places on which more stands than fits, by the worst run of the next months."""
    ground: Ground = look.once.get("ground") or Ground(look.ctx)
    end = ground.today + timedelta(days=AHEAD_DAYS)
    for pk, lane in ground.lanes.items():
        for run in sorted(ground.over(pk, ground.today, end), key=lambda r: -r.amount)[:1]:
            place = lane.place
            data = {"place": place.name, "amount": run.amount, "unit": place.unit.words, "start": run.start}
            yield Decision("places", "over", place.name, data, f"/batches?view=board&place={pk}", run.start)


def _many(d: object) -> str:
    return plural(int(d), "batch", "batches")  # type: ignore[call-overload]


@asks(
    homeless=lambda d: Words(
        f"{d['kind']} for {_many(d['batches'])}",
        f"{_many(d['batches'])} asked for a {d['kind']} before there was one."
        if d["there"]
        else f"{_many(d['batches'])} {'asks' if d['batches'] == 1 else 'ask'} for a {d['kind']}, and there is none.",
        "Plan again" if d["there"] else "Add one",
    )
)
def without_place(look: Look) -> Iterable[Decision]:
    """Kinds of place that planned batches asked for in vain."""
    for one in homeless(look.ctx):
        data = {"kind": PLACE_KINDS.get(one.kind, one.kind).lower(), "batches": one.batches, "there": one.there}
        link = "/places" if one.there else f"/places?add={one.kind}"
        yield Decision("places", "homeless", one.kind, data, link)


@asks(
    no_lot=lambda d: Words(
        f"lot for {d['batch']}",
        f"{d['crop']} {d['batch']} is to be sown within a week and has no seed lot.",
        "Choose a lot",
        d["stands"],
    )
)
def without_lot(look: Look) -> Iterable[Decision]:
    """Batches that are to be sown soon and have no seed."""
    ctx = look.ctx
    soon = ctx.today + timedelta(days=SOON_DAYS)
    rows = ctx.rows(Batch).filter(
        state=Batch.State.PLANNED,
        stages__in=BatchStage.objects.filter(order=0),
        stages__planned__startswith__lt=soon,
        lot=None,
        method_snapshot__by_seed=True,
    )
    for b in rows.select_related("crop"):
        data = {"batch": b.code, "crop": b.crop.name}
        yield Decision("sowing", "no_lot", b.code, {**data, "stands": promise_of(look, b.pk)}, f"/sowing?card={b.pk}")


@asks(
    retest=lambda d: Words(
        f"test {d['lot']}",
        f"{d['crop']} {d['lot']} is set aside for order {d['order']} on {d['due']:%a} {d['due'].day} {d['due']:%b %Y}; "
        f"by then {d['why']}.",
        "See the results",
        "may not leave without it",
    )
)
def to_test_again(look: Look) -> Iterable[Decision]:
    """Released seed set aside for a day on which its results will no longer hold."""
    ctx = look.ctx
    rows = SetAside.objects.filter(
        lot__organisation=ctx.organisation, lot__form="seed", order_line__state=OrderLine.State.OPEN
    ).select_related("lot__crop", "order_line__order")
    first: dict[int, SetAside] = {}
    for row in rows.order_by("order_line__due", "id"):
        if row.order_line.due.lower > ctx.today:
            first.setdefault(row.lot_id, row)
    lots = [row.lot for row in first.values()]
    now = barred(ctx, lots, ctx.today)
    then = barred(ctx, lots, {pk: row.order_line.due.lower for pk, row in first.items()})
    for pk, row in first.items():
        if pk in then and pk not in now:  # what is too old today waits in Lots already
            due = row.order_line.due.lower
            data = {"lot": row.lot.code, "crop": row.lot.crop.name, "order": row.order_line.order.number, "due": due}
            by = max(ctx.today, due - timedelta(days=TEST_DAYS))
            yield Decision("lots", "retest", row.lot.code, {**data, "why": then[pk]}, f"/lots?lot={pk}", by)


@asks(
    question=lambda d: Words(
        f"answer {d['customer']}",
        f"{d['customer']} asked, and what stands is held until {d['until']:%a} {d['until'].day} {d['until']:%b}: enter it as an order, hold it longer, or let it go."
        if d["held"]
        else f"{d['customer']} asked; it was held until {d['until']:%a} {d['until'].day} {d['until']:%b} and is free again.",
        "See the question",
    )
)
def questions(look: Look) -> Iterable[Decision]:
    """Questions whose hold ends soon, or is over."""
    ctx = look.ctx
    soon = ctx.today + timedelta(days=HOLD_ENDS_DAYS)
    rows = ctx.rows(Question).filter(state=Question.State.ASKED, until__lte=soon)
    for pk, customer, until in rows.order_by("until", "id").values_list("pk", "customer", "until"):
        assert until is not None
        data = {"customer": customer, "until": until, "held": until >= ctx.today}
        yield Decision("orders", "question", customer, data, f"/orders?question={pk}", until)
