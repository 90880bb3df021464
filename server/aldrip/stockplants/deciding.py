"""What waits in Stock plants: cuttings that will be short, mothers past their life, indexes that run out."""

from collections.abc import Iterable, Sequence
from datetime import timedelta
from math import ceil

from aldrip.accounts.decisions import Decision, Look, Words, asks
from aldrip.base.words import number, plural
from aldrip.stockplants.models import MotherStart
from aldrip.stockplants.outlook import outlooks, standing
from aldrip.stockplants.planned_mothers import unplanted
from aldrip.stockplants.services import newest_index
from aldrip_core.mother_stock import in_week

SOON_WEEKS = 12  # in which cuttings that are short are told
ORDERED_DAYS = 42  # before which plantlets are ordered; common practice, no source
TEST_DAYS = 28  # in which a laboratory answers; common practice, no source


@asks(
    mothers_short=lambda d: Words(
        f"{d['crop']} cuttings short",
        f"{plural(d['weeks'], 'week')} short of {d['crop'].lower()} cuttings, first by {number(d['many'])} in week {d['week']}; {d['orders']}.",
        "See what helps",
        d["orders"],
    ),
    mothers_old=lambda d: Words(
        f"{d['code']} past its life",
        f"{number(d['mothers'])} {d['crop'].lower()} mothers {d['code']} are {d['why']}: they give nothing to stick any more.",
        "Retire them",
    ),
    mothers_start=lambda d: Words(
        f"mothers of {d['crop'].lower()}",
        f"{plural(d['many'], 'plantlet')} of {d['crop'].lower()} {'are' if d['many'] != 1 else 'is'} to be planted as mothers in week {d['week']}, {d['ordered']}.",
        "See the plan",
    ),
    index_due=lambda d: Words(
        f"index {d['code']}",
        f"{d['crop']} mothers {d['code']}: the test for {d['what']} is valid until {d['until']:%a} {d['until'].day} {d['until']:%b}.",
        "Enter the new one",
    ),
)
def mothers(look: Look) -> Iterable[Decision]:
    """Cuttings that are short, mothers that are over, and indexes that run out."""
    ctx = look.ctx
    stocks = list(standing(ctx).prefetch_related("index_tests"))
    starts = list(unplanted(ctx))
    if not stocks and not starts:
        return
    yield from _starts(look, starts)
    for one in outlooks(ctx, stocks, starts):
        weeks = [n for n, many in enumerate(one.outlook.short[:SOON_WEEKS]) if many > 0]
        if not weeks:
            continue
        monday = one.first + timedelta(weeks=weeks[0])
        numbers = [name for _, name in one.short_orders]
        more = f" and {len(numbers) - 3} more" if len(numbers) > 3 else ""
        hangs = f"{'order' if len(numbers) == 1 else 'orders'} {', '.join(numbers[:3])}{more} hang{'s' if len(numbers) == 1 else ''} on them"
        data = {
            "crop": one.crop,
            "weeks": len(weeks),
            "many": ceil(one.outlook.short[weeks[0]] - 1e-9),
            "week": monday.isocalendar().week,
            "orders": hangs if numbers else "no order hangs on them yet",
        }
        yield Decision("stockplants", "mothers_short", one.crop, data, "/stockplants", max(monday, ctx.today))
    for stock in stocks:
        ends = in_week(stock.planted_on, stock.life_weeks)
        told = {"code": stock.lot.code, "crop": stock.lot.crop.name, "mothers": float(stock.lot.balance)}
        gone = stock.exhausted_on is not None and stock.exhausted_on <= ctx.today
        if gone or ends <= ctx.today:
            why = "exhausted" if gone else f"over their {stock.life_weeks} weeks"
            yield Decision(
                "stockplants", "mothers_old", stock.lot.code, {**told, "why": why}, f"/stockplants?stock={stock.pk}"
            )
            continue
        for test in newest_index(stock):
            if test.valid_until is not None and test.valid_until <= ctx.today + timedelta(days=TEST_DAYS):
                data = {**told, "what": test.what, "until": test.valid_until}
                yield Decision(
                    "stockplants", "index_due", stock.lot.code, data, f"/stockplants?stock={stock.pk}", test.valid_until
                )


def _starts(look: Look, starts: Sequence[MotherStart]) -> Iterable[Decision]:
    """Plantings that plans ask for: to be ordered a while before, to be planted in their week."""
    today = look.ctx.today
    for one in starts:
        if one.on > today and (one.ordered_on is not None or one.on > today + timedelta(days=ORDERED_DAYS)):
            continue
        whom = f" from {one.ordered_from}" if one.ordered_from else ""
        data = {
            "crop": one.plan.crop.name,
            "many": one.plantlets,
            "week": one.on.isocalendar().week,
            "ordered": f"ordered{whom}" if one.ordered_on else "not ordered yet",
        }
        key = f"{one.plan.crop.name} {one.on}"
        yield Decision(
            "stockplants", "mothers_start", key, data, f"/stockplants?plan={one.plan_id}", max(one.on, today)
        )
