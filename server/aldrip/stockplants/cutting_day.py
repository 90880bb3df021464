"""What is to be cut: of which mothers, for which batch, on which morning; on the day sheet too, and the evening before."""

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from math import ceil
from typing import Any

from django.db.models import Sum

from aldrip.accounts.context import Ctx
from aldrip.base.words import number
from aldrip.batches.models import Batch
from aldrip.diary.sheet import Beside
from aldrip.lots.models import Lot
from aldrip.places.entering import entering_words
from aldrip.stockplants.models import CutLog, MotherStock
from aldrip.stockplants.outlook import beginning, standing
from aldrip.stockplants.services import stand_of
from aldrip_core.cutting_day import to_cut
from aldrip_core.mother_stock import given_by_week

ONE = timedelta(days=1)


@dataclass(frozen=True)
class Cutting:
    """So many of a stock for a batch, on the morning of a day; without a stock nobody gives them."""

    on: date
    many: int
    stock: MotherStock | None
    batch: Batch


def cuttings_due(ctx: Ctx, first: date, last: date) -> list[Cutting]:
    """What is to be cut for batches that are stuck from a day to another (included); what is late is cut on the first.

    Week by week from the Monday of `first`; what was cut since Monday counts as given, and what of it is not stuck as there.
    """
    monday = first - timedelta(days=first.weekday())
    stocks = sorted(standing(ctx), key=lambda one: (one.planted_on, one.pk))
    if not stocks:
        return []
    crops = {stock.lot.crop.slug for stock in stocks}
    due = [(on, batch) for on, batch in beginning(ctx, list(crops), last + ONE) if on >= monday or monday <= ctx.today]
    cut = _cut_since(ctx, ctx.today - timedelta(days=ctx.today.weekday()))
    waits = _not_stuck(ctx, crops)
    found: list[Cutting] = []
    for week in range((last - monday).days // 7 + 1):
        begins = monday + timedelta(weeks=week)
        now = begins <= ctx.today < begins + timedelta(weeks=1)
        own = [(on, one) for on, one in due if begins <= max(on, ctx.today) < begins + timedelta(weeks=1)]
        gives = {
            stock.pk: max(
                0.0, given_by_week([stand_of(stock)], first=begins, weeks=1)[0] - (cut.get(stock.pk, 0) if now else 0)
            )
            for stock in stocks
            if stock.exhausted_on is None or stock.exhausted_on > max(begins, ctx.today)
        }
        wanted = [(batch.pk, _still(batch, waits)) for _, batch in own]
        fits = {batch.pk: [stock.pk for stock in stocks if _fits(stock, batch)] for _, batch in own}
        of, days = {stock.pk: stock for stock in stocks}, {batch.pk: (on, batch) for on, batch in own}
        for one in to_cut(gives, wanted, fits):
            on, batch = days[one.batch]
            day = max(on, ctx.today)
            if first <= day <= last:
                stock = of[one.stock] if one.stock is not None else None
                found.append(Cutting(day, ceil(one.many - 1e-6), stock, batch))
    return found


def _fits(stock: MotherStock, batch: Batch) -> bool:
    same = stock.lot.crop.slug == batch.crop.slug
    return same and (batch.line is None or stock.lot.line is None or stock.lot.line.slug == batch.line.slug)


def _cut_since(ctx: Ctx, monday: date) -> dict[int, int]:
    logs = ctx.rows(CutLog).filter(happened_at__gte=ctx.at(monday) - timedelta(hours=12))
    return dict(logs.values_list("stock").annotate(all=Sum("cuttings")).order_by())


def _not_stuck(ctx: Ctx, crops: set[str]) -> dict[tuple[str, str], float]:
    """Cuttings that wait to be stuck, by crop and cultivar."""
    found: dict[tuple[str, str], float] = defaultdict(float)
    lots = ctx.rows(Lot).filter(form="cutting", balance__gt=0, on_hold="", crop__slug__in=crops)
    for crop, line, many in lots.filter(use_by__gt=ctx.now).values_list("crop__slug", "line__slug", "balance"):
        found[crop, line or ""] += float(many)
    return found


def _still(batch: Batch, waits: dict[tuple[str, str], float]) -> float:
    """What a batch still wants once cuttings that wait have served it."""
    need = float(batch.start)
    for key in list(waits):
        if key[0] == batch.crop.slug and (batch.line is None or key[1] in ("", batch.line.slug)):
            part = min(need, waits[key])
            waits[key] -= part
            need -= part
    return need


def on_the_sheet(ctx: Ctx, first: date, days: int) -> Sequence[Beside]:
    """What is cut on these days, and which mothers are watered on the evening before."""
    last = first + timedelta(days=days - 1)
    if last < ctx.today:
        return []
    due = cuttings_due(ctx, max(first, ctx.today), last + ONE)
    found = [
        Beside(
            one.on,
            "morning",
            f"Cut {number(one.many)} of {one.stock.lot.crop.name.lower()} {one.stock.lot.code}{_where(one.stock)} for {one.batch.code}.",
            f"/stockplants?stock={one.stock.uuid}",
        )
        if one.stock is not None
        else Beside(
            one.on,
            "morning",
            f"{number(one.many)} cuttings of {one.batch.crop.name.lower()} for {one.batch.code} are given by no mother.",
            "/stockplants",
            wrong=True,
        )
        for one in due
        if one.on <= last
    ]
    evenings: dict[date, dict[str, Any]] = defaultdict(dict)
    for one in due:
        if one.stock is not None and one.on - ONE >= max(first, ctx.today):
            evenings[one.on - ONE][one.stock.lot.code] = None
    for on, codes in evenings.items():
        told = f"Water the mothers {', '.join(codes)} this evening: they are cut tomorrow morning."
        found.append(Beside(on, "evening", told, "/stockplants"))
    return found


def _where(stock: MotherStock) -> str:
    if stock.place is None:
        return ""
    only = entering_words(stock.place)
    return f" in {stock.place.name}" + (f" ({only[0].lower()}{only[1:]})" if only else "")
