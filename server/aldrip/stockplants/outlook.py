"""What mothers will give by week, against the batches that are to be begun with cuttings, and which orders hang on them."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from datetime import date, timedelta
from math import ceil, floor
from typing import Any

from django.db.models import QuerySet, Sum

from aldrip.accounts.context import Ctx
from aldrip.batches.models import Allocation, Batch, BatchStage
from aldrip.orders.models import OrderLine
from aldrip.stockplants.models import CutLog, MotherStart, MotherStock
from aldrip.stockplants.planned_mothers import pace_since, raising_of, to_come, unplanted
from aldrip.stockplants.services import habit_of, pace_now, stand_of
from aldrip_core.mother_stock import Outlook, given_by_week, outlook
from aldrip_core.problems import Problem
from aldrip_core.stages import Part

WEEKS = 26


@dataclass(frozen=True)
class Fed:
    """A planned batch that is to be begun with cuttings: how many, in which week, and the orders that hang on it."""

    batch: Batch
    week: int
    cuttings: float
    orders: tuple[tuple[int, str], ...]  # order and its number


@dataclass(frozen=True)
class OfCrop:
    """The outlook of a crop: its stocks, what it feeds, week by week."""

    crop: str
    first: date
    stocks: tuple[MotherStock, ...]
    fed: tuple[Fed, ...]
    outlook: Outlook
    to_come: tuple[float, ...] = ()  # of what is given, by week: what mothers give that are only planned

    @property
    def short_orders(self) -> tuple[tuple[int, str], ...]:
        """Orders whose batches fall into a week that is short, each once."""
        found = [one for fed in self.fed if self.outlook.short[fed.week] > 0 for one in fed.orders]
        return tuple(dict.fromkeys(found))


@dataclass
class _Wanted:
    fed: list[Fed] = field(default_factory=list)
    by_week: list[float] = field(default_factory=lambda: [0.0] * WEEKS)


def standing(ctx: Ctx) -> QuerySet[MotherStock]:
    """Stocks that were not retired, the youngest first, with what is reckoned from."""
    return (
        ctx.rows(MotherStock)
        .filter(retired_on=None)
        .select_related("lot__crop", "lot__line", "place__site")
        .order_by("-planted_on", "-pk")
    )


def outlooks(ctx: Ctx, stocks: Sequence[MotherStock], starts: Sequence[MotherStart] | None = None) -> list[OfCrop]:
    """By crop, for half a year from this week on. Only crops of which mothers stand, stood and were not retired, or are planned.

    starts: the plantings that are still to come, where somebody has read them already.
    """
    first = ctx.today - timedelta(days=ctx.today.weekday())
    by_crop: dict[str, list[MotherStock]] = {}
    for stock in stocks:
        if stock.retired_on is None:
            by_crop.setdefault(stock.lot.crop.slug, []).append(stock)
    asked = list(unplanted(ctx)) if starts is None else list(starts)
    coming = to_come(asked, first, WEEKS)
    if not by_crop and not coming:
        return []
    names = {one.plan.crop.slug: one.plan.crop.name for one in asked}
    habits = {one.plan.crop.slug: (raising_of(one.plan).habit, pace_since(one.plan, first)) for one in asked}
    wanted = {slug: _Wanted() for slug in (*by_crop, *coming)}
    for slug, fed in _fed(ctx, first, list(wanted)):
        wanted[slug].fed.append(fed)
        wanted[slug].by_week[fed.week] += fed.cuttings
    # What was cut since Monday is stuck, planted or gone: this week gives so much less.
    logs = ctx.rows(CutLog).filter(happened_at__gte=ctx.at(first) - timedelta(hours=12))
    cut = dict(logs.values_list("stock__lot__crop__slug").annotate(all=Sum("cuttings")).order_by())
    found = []
    for slug in wanted:
        own, planned = by_crop.get(slug, []), coming.get(slug, [0.0] * WEEKS)
        gives = given_by_week([stand_of(stock) for stock in own], first=first, weeks=WEEKS)
        here = (max(0.0, gives[0] - float(cut.get(slug, 0))), *gives[1:])
        given = [a + b for a, b in zip(here, planned, strict=True)]
        habit, pace = (habit_of(own[0]), pace_now(own[0], first)) if own else habits[slug]
        told = outlook(given, wanted[slug].by_week, first=first, habit=habit, pace=pace)
        name = own[0].lot.crop.name if own else names[slug]
        found.append(OfCrop(name, first, tuple(own), tuple(wanted[slug].fed), told, tuple(planned)))
    return found


def beginning(ctx: Ctx, crops: Sequence[str], before: date) -> list[tuple[date, Batch]]:
    """Batches that are to be begun with cuttings before a day and are not begun, the first on top, with their day."""
    return [(one.planned.lower, one.batch) for one in _beginning(ctx, crops, before)]


def _beginning(ctx: Ctx, crops: Sequence[str], before: date) -> list[Any]:
    rows = (
        BatchStage.objects.filter(
            batch__organisation=ctx.organisation,
            batch__state=Batch.State.PLANNED,
            batch__crop__slug__in=crops,
            order=0,
            planned__startswith__lt=before,
        )
        .filter(batch__method_snapshot__stages__0__takes=Part.CUTTING.value)
        .order_by("planned__startswith", "batch")
        .select_related("batch__crop", "batch__line")
        .defer("batch__method_snapshot")
    )
    return list(rows)


def _fed(ctx: Ctx, first: date, crops: Sequence[str]) -> Iterable[tuple[str, Fed]]:
    stages = _beginning(ctx, crops, first + timedelta(weeks=WEEKS))
    orders: dict[int, list[tuple[int, str]]] = {}
    allocated = Allocation.objects.filter(
        batch__in=[one.batch_id for one in stages], order_line__state=OrderLine.State.OPEN
    )
    for pk, order, number in allocated.order_by("order_line__due", "pk").values_list(
        "batch", "order_line__order", "order_line__order__number"
    ):
        orders.setdefault(pk, []).append((order, number))
    for one in stages:
        day: Any = one.planned.lower
        week = max(0, (day - first).days // 7)  # what is late is wanted now
        yield (
            one.batch.crop.slug,
            Fed(one.batch, week, float(one.batch.start), tuple(dict.fromkeys(orders.get(one.batch_id, ())))),
        )


def wanted_by_week(ctx: Ctx, crop: str) -> list[float]:
    """Cuttings that batches of a crop are to be begun with, by week from this one on, whoever gives them."""
    first, found = ctx.today - timedelta(days=ctx.today.weekday()), [0.0] * WEEKS
    for _, fed in _fed(ctx, first, [crop]):
        found[fed.week] += fed.cuttings
    return found


def given_to_batches(ctx: Ctx) -> dict[int, float]:
    """How many of their cuttings batches of the coming half year have from the house's mothers, the first to be stuck first."""
    found: dict[int, float] = {}
    for one in outlooks(ctx, list(standing(ctx))):
        left = list(one.outlook.given)
        for fed in one.fed:
            found[fed.batch.pk] = part = min(fed.cuttings, floor(left[fed.week] + 1e-9))  # whole
            left[fed.week] -= part
    return found


def short_batches(ctx: Ctx) -> dict[int, Problem]:
    """What is wrong with batches that fall into a week in which the mothers give too little; by batch."""
    found: dict[int, Problem] = {}
    for one in outlooks(ctx, list(standing(ctx))):
        for fed in one.fed:
            short = one.outlook.short[fed.week]
            if short > 0:
                week = (one.first + timedelta(weeks=fed.week)).isocalendar().week
                found[fed.batch.pk] = Problem(
                    "short_cuttings", {"batch": fed.batch.code, "week": week, "short": ceil(short - 1e-9)}
                )
    return found
