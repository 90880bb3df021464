"""Mother plants: planted, cut, tested, exhausted and retired; each with its record."""

import re
import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from decimal import Decimal

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.base.words import day, plural
from aldrip.lots.holds import hold, open_holds
from aldrip.lots.models import Lot, LotParent
from aldrip.lots.moving import move
from aldrip.lots.taking import Wanted, take_from_stock
from aldrip.methods.models import Crop, Line
from aldrip.places.climate import climate_of
from aldrip.places.entering import doubt_entry
from aldrip.places.models import Place
from aldrip.stockplants.models import CutLog, IndexTest, MotherStart, MotherStock
from aldrip_core.mother_stock import (
    LONGEST_LIFE,
    WAITS_H,
    Habit,
    Stand,
    age_weeks,
    as_they_stood,
    given_by_week,
    grows,
    in_week,
)
from aldrip_core.shoot_pace import FULL_C, LONG_DAY_H, pace_by_week
from aldrip_core.units import Quantity, Unit, unit

FORM = "mother plant"
RAISED_FROM = ("plant", "cutting", "tuber", "division")  # forms of which mothers are planted
MOST = 1_000_000
MUCH = 2.0  # times what a stock was reckoned to give; more is asked about
STEM = re.compile(r"\s*[,;]\s*|\s+")


@dataclass(frozen=True)
class Planted:
    """What is said of a planting: how many mothers, of what, where, since when, and how they give."""

    crop_id: Ref
    mothers: int
    habit: Habit
    line_id: Ref | None = None
    lot_id: Ref | None = None
    place_id: Ref | None = None
    planted_on: date | None = None
    note: str = ""
    start_id: Ref | None = None  # the planting of a plan that this is
    slows: bool = False  # the habit holds in the warm and on long days; slower where they stand


def habit_of(stock: MotherStock) -> Habit:
    """How a stock gives, in core's terms."""
    return Habit(tuple(stock.shoots), stock.first_cut_week, stock.life_weeks)


def stand_of(stock: MotherStock) -> Stand:
    """A stock in core's terms, with how many still stand; held ones give nothing."""
    ends = [one for one in (stock.exhausted_on, stock.retired_on) if one is not None]
    if stock.lot.on_hold:
        ends.append(stock.planted_on)
    return Stand(float(stock.lot.balance), stock.planted_on, habit_of(stock), min(ends, default=None), pace_of(stock))


def pace_of(stock: MotherStock) -> tuple[float, ...]:
    """How fast a stock grows by week from the one of its planting, where it slows in the cold and on short days."""
    if not stock.slows or stock.place is None:
        return ()
    return pace_by_week(climate_of(stock.place), in_week(stock.planted_on, 0), stock.life_weeks)


def reckoned_until(ctx: Ctx, stock: MotherStock) -> float:
    """What the mothers of a stock were reckoned to give from their planting to the end of this week.

    Those that died or went are in it until they did; a hold is not, since it says nothing of the weeks before it.
    """
    first = in_week(stock.planted_on, 0)
    weeks = min(max(0, (ctx.today - first).days // 7 + 1), stock.life_weeks)
    end = min((one for one in (stock.exhausted_on, stock.retired_on) if one is not None), default=None)
    now = Stand(float(stock.lot.balance), stock.planted_on, habit_of(stock), end, pace_of(stock))
    changes = [(ctx.local(one.happened_at).date(), float(one.quantity)) for one in stock.lot.movements.all()]
    return sum(given_by_week(as_they_stood(now, changes), first=first, weeks=weeks))


def slowed_words(ctx: Ctx, stock: MotherStock) -> str:
    """How fast a stock grows this week where it slows; nothing where it does not."""
    pace, week = pace_of(stock), age_weeks(stock.planted_on, ctx.today)
    if not 0 <= week < len(pace) or stock.place is None:
        return ""
    share = f"{pace[week] * 100:.0f} % of their pace"
    return f"In {stock.place.name} they grow at {share} this week: it holds at {FULL_C:g} °C and in days of {LONG_DAY_H:g} hours."


def pace_now(stock: MotherStock, first: date) -> tuple[float, ...]:
    """How fast mothers would grow that are planted beside a stock in the week of a Monday."""
    if not stock.slows or stock.place is None:
        return ()
    return pace_by_week(climate_of(stock.place), first, stock.life_weeks)


def read_habit(shoots: str, first_cut_week: int, life_weeks: int) -> Habit:
    """How mothers give, as typed: “1, 15 %, 6” is one shoot at the first cut, 15 % more a week, six at most; or one number a week.

    Raises Refused.
    """
    plain = shoots.strip()
    if not 0 <= first_cut_week <= LONGEST_LIFE:
        told = f"A first cut in week {first_cut_week:,} cannot be; weeks 0 to {LONGEST_LIFE} of her life can."
        raise refuse("first_cut_week", "out_of_range", told)
    growing = re.fullmatch(r"([\d.]+)\s*,\s*([\d.]+)\s*%\s*,\s*([\d.]+)", plain)
    try:
        if growing is not None:
            first, more, most = (float(one) for one in growing.groups())
            if not 0 < first_cut_week < life_weeks <= LONGEST_LIFE:
                raise refuse(
                    "first_cut_week", "out_of_range", "The first cut is in a week of her life, after the first."
                )
            by_week = grows(
                first_cut_week=first_cut_week, first=first, a_week=more / 100, most=most, life_weeks=life_weeks
            )
        else:
            by_week = (*(0.0 for _ in range(first_cut_week)), *(float(one) for one in STEM.split(plain) if one))
    except ValueError:
        told = f"“{plain}” cannot be read. Write “1, 15 %, 6”, or shoots of a mother week by week from her first cut: “1 1 2 2 3”."
        raise refuse("shoots", "not_a_number", told) from None
    return Habit(by_week, first_cut_week, life_weeks)


@act
def plant(ctx: Ctx, spec: Planted, client_uuid: uuid.UUID) -> MotherStock:
    """Mothers were planted: of a lot that is there, or raised from elsewhere."""
    done = ctx.rows(MotherStock).filter(uuid=client_uuid).first()
    if done is not None:
        return done
    crop = ctx.get(Crop, spec.crop_id, shared=True)
    line = ctx.get(Line, spec.line_id, shared=True) if spec.line_id else None
    if line is not None and line.crop.slug != crop.slug:
        raise refuse(
            "line_id", "other_crop", f"{line.name} is not {crop.name.lower()}. Choose a cultivar of that crop."
        )
    on = _planted_on(ctx, spec)
    source = ctx.get(Lot, spec.lot_id) if spec.lot_id else None
    if source is not None and line is None:
        line = source.line
    place = ctx.get(Place, spec.place_id) if spec.place_id else None
    if spec.slows and place is None:
        raise refuse("place_id", "missing", "Where do they stand? How warm and light it is there slows them.")
    doubt_entry(ctx, place, "place_id")
    start = _start(ctx, spec.start_id, crop) if spec.start_id else None
    of = getattr(source, "cut", None) if source is not None else None
    made = _stock(ctx, crop, line, place, on, spec, of.stock.generation + 1 if of else 0, client_uuid)
    if source is not None:
        if source.form not in RAISED_FROM:
            told = f"Lot {source.code} is kept as “{source.form}”; mothers are planted of {' or '.join(RAISED_FROM)}s."
            raise refuse("lot_id", "other_form", told)
        wanted = Wanted(crop, line, source.form, for_what="planted")
        pieces = Quantity.of(spec.mothers, unit(source.unit))
        taken = take_from_stock(
            ctx, source, pieces, "planted", on=on, wanted=wanted, subject=made, subject_code=made.lot.code
        )
        LotParent.objects.create(child=made.lot, parent=source, quantity=-taken.quantity, how="planted")
    if start is not None:
        start.stock = made
        start.save(update_fields=["stock"])
    where = f" in {place.name}" if place else ""
    ctx.record(
        "mothers.plant",
        f"Planted {plural(spec.mothers, 'mother')} of {crop.name.lower()}{where}: {made.lot.code}.",
        made,
    )
    return made


def _planted_on(ctx: Ctx, spec: Planted) -> date:
    """The day of a planting of so many as can be. Raises Refused."""
    on = spec.planted_on or ctx.today
    if on > ctx.today:
        raise refuse("planted_on", "in_the_future", f"{on} is still to come. Enter it when they are planted.")
    if on < ctx.today - timedelta(weeks=spec.habit.life_weeks):
        told = f"Planted on {day(on, year=True)} they are past their life of {plural(spec.habit.life_weeks, 'week')}."
        raise refuse("planted_on", "over", told)
    if not 1 <= spec.mothers <= MOST:
        raise refuse("mothers", "out_of_range", f"How many mothers? 1 to {MOST:,}.")
    return on


def _start(ctx: Ctx, start_id: Ref, crop: Crop) -> MotherStart:
    """The planting of a plan that is planted now. Raises Refused."""
    start = ctx.get(MotherStart, start_id, lock=True)
    if start.plan.crop.slug != crop.slug:
        told = f"That plan is for {start.plan.crop.name.lower()}. Choose it, or plant without the plan."
        raise refuse("crop_id", "other_crop", told)
    if start.stock is not None:
        told = f"This planting stands already, as mothers {start.stock.lot.code}. Plant more without the plan."
        raise refuse("start_id", "planted", told)
    return start


def _stock(
    ctx: Ctx,
    crop: Crop,
    line: Line | None,
    place: Place | None,
    on: date,
    spec: Planted,
    generation: int,
    client_uuid: uuid.UUID,
) -> MotherStock:
    lot = Lot.objects.create(
        organisation=ctx.organisation,
        code=ctx.next_code("lot")[0],
        crop=crop,
        line=line,
        form=FORM,
        unit=Unit.PLANT.words,
        received_on=on,
        note=spec.note.strip()[:300],
    )
    move(ctx, lot, Decimal(spec.mothers), "planted", on=on)
    return MotherStock.objects.create(
        uuid=client_uuid,
        organisation=ctx.organisation,
        lot=lot,
        place=place,
        planted_on=on,
        planted=spec.mothers,
        generation=generation,
        shoots=list(spec.habit.shoots_by_age_weeks),
        first_cut_week=spec.habit.first_cut_week,
        life_weeks=spec.habit.life_weeks,
        slows=spec.slows,
        note=spec.note.strip()[:300],
    )


def _living(ctx: Ctx, stock_id: Ref) -> MotherStock:
    """A stock to do something with. Raises Refused where it was retired."""
    stock = ctx.get(MotherStock, stock_id, lock=True)
    if stock.retired_on is not None:
        told = f"These mothers were retired on {day(stock.retired_on, year=True)}: {stock.retired_as}. Take that back first."
        raise refuse("stock_id", "retired", told)
    return stock


@act
def cut(
    ctx: Ctx,
    stock_id: Ref,
    *,
    cuttings: int,
    into: str,
    client_uuid: uuid.UUID,
    on: date | None = None,
    leaves: str = "",
    note: str = "",
) -> CutLog:
    """Cuttings were taken of a stock. Those to be stuck are a lot to be used within its hours, those to become mothers one to be planted."""
    done = ctx.rows(CutLog).filter(client_uuid=client_uuid).select_related("lot", "stock").first()
    if done is not None:
        return done
    stock, day_of = _living(ctx, stock_id), on or ctx.today
    lot = stock.lot
    if not 1 <= cuttings <= MOST:
        raise refuse("cuttings", "out_of_range", f"How many were cut? 1 to {MOST:,}.")
    if not stock.planted_on <= day_of <= ctx.today:
        told = f"Cut between {day(stock.planted_on, year=True)}, when they were planted, and today."
        raise refuse("on", "out_of_range", told)
    if lot.on_hold and into != CutLog.Into.DISCARDED:
        raise refuse("into", "on_hold", f"These mothers are {lot.on_hold}. What is cut of them is thrown away.")
    _doubt(ctx, stock, cuttings, day_of, into)
    doubt_entry(ctx, stock.place, "cuttings")
    made = None
    if into != CutLog.Into.DISCARDED:
        made = _cuttings(ctx, stock, cuttings, day_of, note, waits=into == CutLog.Into.STOCK)
        LotParent.objects.create(child=made, parent=lot, quantity=Decimal(0), how="cut")
    log = CutLog.objects.create(
        organisation=ctx.organisation,
        by=ctx.user,
        stock=stock,
        cuttings=cuttings,
        into=into,
        lot=made,
        leaves=leaves,
        happened_at=ctx.at(day_of),
        client_uuid=client_uuid,
        reason=note.strip()[:300],
    )
    where = {"stock": "to be stuck", "mothers": "to become mothers", "discarded": "thrown away"}[into]
    code = f", lot {made.code}" if made else ""
    ctx.record("mothers.cut", f"Cut {cuttings:,} of mothers {lot.code}, {where}{code}.", stock)
    return log


def _cuttings(ctx: Ctx, stock: MotherStock, cuttings: int, on: date, note: str, *, waits: bool) -> Lot:
    """Cuttings as a lot; what `waits` to be stuck is to be used within its hours, and past them where it is entered a day late."""
    made = Lot.objects.create(
        organisation=ctx.organisation,
        code=ctx.next_code("lot")[0],
        crop=stock.lot.crop,
        line=stock.lot.line,
        form="cutting",
        unit=Unit.CUTTING.words,
        received_on=on,
        treatment="cutting" if waits else "",
        use_by=ctx.at(on) + timedelta(hours=WAITS_H) if waits else None,
        note=note.strip()[:300],
    )
    move(ctx, made, Decimal(cuttings), "cut", on=on, subject=stock, subject_code=stock.lot.code)
    return made


def _doubt(ctx: Ctx, stock: MotherStock, cuttings: int, on: date, into: str) -> None:
    """What such a stock hardly gives is asked about."""
    if stock.exhausted_on is not None and on >= stock.exhausted_on and into != CutLog.Into.DISCARDED:
        told = (
            f"These mothers are exhausted since {day(stock.exhausted_on)}; what is cut of them roots badly. Is it so?"
        )
        ctx.doubt("exhausted", "into", told)
    monday = on - timedelta(days=on.weekday())
    stand = Stand(float(stock.lot.balance), stock.planted_on, habit_of(stock), pace=pace_of(stock))
    # The week before and after too: nobody cuts by the calendar.
    given = max(given_by_week([stand], first=monday - timedelta(weeks=1), weeks=3))
    if cuttings > MUCH * given + stand.mothers:
        told = f"{cuttings:,} of {stand.mothers:,.0f} mothers is far more than the {given:,.0f} that such a week gives. Is it so?"
        ctx.doubt("cuttings", "cuttings", told)


@act
def index(
    ctx: Ctx,
    stock_id: Ref,
    *,
    what: str,
    sound: bool,
    client_uuid: uuid.UUID,
    tested_on: date | None = None,
    valid_until: date | None = None,
    laboratory: str = "",
) -> IndexTest:
    """A stock was tested for what must not be in it. One that is not clean is held, with everything made of it."""
    done = ctx.rows(IndexTest).filter(client_uuid=client_uuid).first()
    if done is not None:
        return done
    stock, on = ctx.get(MotherStock, stock_id, lock=True), tested_on or ctx.today
    if not what.strip():
        raise refuse("what", "missing", "For what were they tested?")
    if on > ctx.today:
        raise refuse("tested_on", "in_the_future", f"{on} is still to come.")
    if valid_until is not None and valid_until <= on:
        raise refuse("valid_until", "before", "It is valid until a day after the test.")
    made = IndexTest.objects.create(
        organisation=ctx.organisation,
        by=ctx.user,
        stock=stock,
        what=what.strip()[:120],
        sound=sound,
        tested_on=on,
        valid_until=valid_until,
        laboratory=laboratory.strip()[:120],
        happened_at=ctx.at(on),
        client_uuid=client_uuid,
    )
    told = "clean" if sound else "not clean"
    ctx.record("mothers.index", f"Mothers {stock.lot.code} tested for {made.what}: {told}.", stock)
    if not sound and not any(one.lot_id == stock.lot_id for one in open_holds(ctx)):
        hold(
            ctx,
            stock.lot_id,
            reason=f"mothers {stock.lot.code} are not clean of {made.what}",
            client_uuid=uuid.uuid5(client_uuid, "hold"),
        )
    return made


@act
def exhausted(ctx: Ctx, stock_id: Ref, *, on: date | None) -> MotherStock:
    """A stock gives nothing to stick from a day on, or does again."""
    stock = _living(ctx, stock_id)
    if on is not None and not stock.planted_on < on <= stock.planted_on + timedelta(weeks=stock.life_weeks):
        raise refuse("on", "out_of_range", f"On a day of their life, after {day(stock.planted_on, year=True)}.")
    stock.exhausted_on = on
    stock.save(update_fields=["exhausted_on"])
    told = f"are exhausted from {day(on)} on" if on else "give cuttings again"
    ctx.record("mothers.exhausted", f"Mothers {stock.lot.code} {told}.", stock)
    return stock


@act
def retire(ctx: Ctx, stock_id: Ref, *, into: str) -> MotherStock:
    """A stock is taken out of use; what becomes of it is kept."""
    stock = _living(ctx, stock_id)
    if not into.strip():
        raise refuse("into", "missing", "What becomes of them? Left to make tubers, composted, burnt.")
    lot = stock.lot
    if lot.balance:
        move(ctx, lot, -lot.balance, "retired", on=ctx.today, reason=into.strip())
    stock.retired_on, stock.retired_as = ctx.today, into.strip()[:120]
    stock.save(update_fields=["retired_on", "retired_as"])
    ctx.record("mothers.retire", f"Retired mothers {lot.code}: {stock.retired_as}.", stock)
    return stock


def newest_index(stock: MotherStock) -> Sequence[IndexTest]:
    """Of each thing that a stock was tested for, the newest result."""
    newest: dict[str, IndexTest] = {}
    for one in sorted(stock.index_tests.all(), key=lambda test: (test.tested_on, test.pk)):
        newest[one.what.lower()] = one
    return list(newest.values())
