"""The store of seed tubers: stood in trays by grade, looked through by sample, turned, carried out to be planted."""

import math
import secrets
import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta

from django.db.models import Max, QuerySet, Sum

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.base.words import day, plural, share
from aldrip.diary.sheet import Beside
from aldrip.lots.models import Lot, Movement
from aldrip.lots.taking import Wanted, balance_words, take_from_stock
from aldrip.places.climate import climate_of
from aldrip.places.models import Place
from aldrip.stockplants.models import LiftingSample, TuberCheck, TuberStack
from aldrip_core.schedule import mean_on
from aldrip_core.tuber_store import (
    GRADES,
    TOLD,
    TURN_DAYS,
    Stood,
    StoreHabit,
    TrayRange,
    bad_from,
    sprout_days,
    sprout_rate,
    stood,
    trays_to_look_at,
)
from aldrip_core.units import Quantity, unit

FORM = "tuber"
OUT, THROWN = "planted", "thrown away"  # what a movement of them is called
MOST_LOOKED = 1_000_000
ONE = timedelta(days=1)
AHEAD_DAYS = 120  # of the place's temperatures that sprouts are reckoned with


@dataclass(frozen=True)
class Load:
    """One grade of a load: kilos, what one tuber weighs [g], how many stand in a tray."""

    grade: int
    kg: float
    tuber_g: float
    a_tray: int


def reckon(loads: Sequence[Load], habit: StoreHabit) -> list[Stood]:
    """What each grade comes to. Raises Refused at its row."""
    if not loads:
        raise refuse("loads", "missing", "Of which grades is the load? At least one is needed.")
    found = []
    for n, one in enumerate(loads):
        if one.grade not in GRADES:
            told = f"There is no grade {one.grade}. Grades go from {GRADES[0]} to {GRADES[-1]}."
            raise refuse(f"loads.{n}.grade", "unknown", told)
        found.append(stood(kg=one.kg, tuber_g=one.tuber_g, a_tray=one.a_tray, habit=habit))
    return found


@act
def stand(
    ctx: Ctx,
    lot_id: Ref,
    loads: Sequence[Load],
    habit: StoreHabit,
    *,
    place_id: Ref | None,
    on: date | None,
    client_uuid: uuid.UUID,
    turn_every: int = TURN_DAYS,
) -> list[TuberStack]:
    """Tubers of a lot were stood in trays; its stacks are numbered on from the last of the house."""
    lot = ctx.get(Lot, lot_id, lock=True)
    done = list(ctx.rows(TuberStack).filter(uuid=client_uuid))
    if done:
        return done
    if lot.form != FORM:
        raise refuse("lot_id", "other_form", f"Lot {lot.code} is kept as {lot.form}; tubers are stood in trays.")
    on = on or ctx.today
    if not lot.received_on <= on <= ctx.today:
        told = f"Lot {lot.code} is there since {day(lot.received_on, year=True)}: its trays were stood from then on, and by today."
        raise refuse("on", "out_of_range", told)
    if not 0 <= turn_every <= 60:
        raise refuse("turn_every", "out_of_range", "Stacks are turned every 1 to 60 days, or never (0).")
    place = ctx.get(Place, place_id) if place_id else None
    found = reckon(loads, habit)
    wanted = sum(one.tubers for one in found)
    already = ctx.rows(TuberStack).filter(lot=lot).aggregate(all=Sum("left_tubers"))["all"] or 0
    if wanted + already > lot.balance:
        so_far = f", of which {already:,} stand already" if already else ""
        told = f"Lot {lot.code} holds {balance_words(lot)}{so_far}; {wanted:,} are to be stood. Count the lot again, or stand fewer."
        raise refuse("loads", "not_enough", told)
    next_one = (ctx.rows(TuberStack).aggregate(last=Max("last"))["last"] or 0) + 1
    made = []
    for one, load in zip(found, loads, strict=True):
        made.append(
            TuberStack(
                organisation=ctx.organisation,
                lot=lot,
                place=place,
                grade=load.grade,
                tuber_g=load.tuber_g,
                a_tray=load.a_tray,
                first=next_one,
                last=next_one + one.stacks - 1,
                trays_a_stack=habit.trays_a_stack,
                trays=one.trays,
                tubers=one.tubers,
                left=one.trays,
                left_tubers=one.tubers,
                stood_on=on,
                turned_on=on,
                turn_every=turn_every,
                start=secrets.randbelow(1000) / 1000,
            )
        )
        next_one += one.stacks
    made[0].uuid = client_uuid
    made = TuberStack.objects.bulk_create(made)
    trays, stacks = sum(one.trays for one in made), sum(one.last - one.first + 1 for one in made)
    where = f" in {place.name}" if place else ""
    told = f"Stood {plural(trays, 'tray')} of {lot.crop.name.lower()} {lot.code} in {plural(stacks, 'stack')}{where}: {made[0].first} to {made[-1].last}."
    ctx.record("tubers.stand", told, made[0])
    return made


def shown(ctx: Ctx) -> QuerySet[TuberStack]:
    """Stacks with what is shown of them."""
    return ctx.rows(TuberStack).select_related("lot__crop", "lot__line", "place__site").prefetch_related("checks__by")


def carried(ctx: Ctx, stacks: Sequence[TuberStack]) -> dict[uuid.UUID, list[Movement]]:
    """What was carried out of each, newest first."""
    rows = (
        ctx.rows(Movement).filter(kind__in=(OUT, THROWN), subject__in=[one.uuid for one in stacks]).select_related("by")
    )
    found: dict[uuid.UUID, list[Movement]] = {}
    for one in rows.order_by("-happened_at", "-pk"):
        if one.subject is not None:
            found.setdefault(one.subject, []).append(one)
    return found


def newest_check(stack: TuberStack) -> TuberCheck | None:
    """What was found last."""
    return max(stack.checks.all(), key=lambda one: (one.happened_at, one.pk), default=None)


def drawn(stack: TuberStack, limit: float) -> tuple[tuple[int, int], ...]:
    """Which trays an inspector draws of what was stood: stack and tray from the top."""
    in_last = stack.trays - (stack.last - stack.first) * stack.trays_a_stack
    of = TrayRange(stack.first, stack.last, stack.trays_a_stack, in_last)
    return trays_to_look_at(of, a_tray=stack.a_tray, limit=limit, start=stack.start)


@act
def look(
    ctx: Ctx,
    stack_id: Ref,
    *,
    trays: int,
    looked: int,
    bad: int,
    limit: float,
    client_uuid: uuid.UUID,
    sprout_mm: float | None = None,
    note: str = "",
) -> TuberCheck:
    """Trays were drawn and looked through; by the reject number what they stand for passes or is to be sorted again."""
    stack = ctx.get(TuberStack, stack_id, lock=True)
    done = ctx.rows(TuberCheck).filter(client_uuid=client_uuid).first()
    if done is not None:
        return done
    if not stack.left:
        raise refuse("stack_id", "nothing", f"Nothing is left of stacks {stack.first} to {stack.last}.")
    if not 1 <= trays <= stack.left:
        raise refuse("trays", "out_of_range", f"Of these stacks {plural(stack.left, 'tray')} stand: 1 to so many.")
    most = trays * stack.a_tray
    if not 1 <= looked <= min(MOST_LOOKED, most):
        told = f"{plural(trays, 'tray')} of {stack.a_tray:,} hold {most:,} tubers: 1 to {min(MOST_LOOKED, most):,} were looked at."
        raise refuse("looked", "out_of_range", told)
    if not 0 <= bad <= looked:
        raise refuse("bad", "out_of_range", f"{bad:,} of {looked:,} cannot be below standard.")
    if not 0 < limit < 1:
        raise refuse("limit", "out_of_range", "The limit is more than 0 and less than 100 %.")
    if sprout_mm is not None and not 0 <= sprout_mm <= 1000:
        raise refuse("sprout_mm", "out_of_range", "Sprouts are 0 to 1,000 mm long.")
    reject_at = bad_from(looked=looked, limit=limit)
    enough = math.ceil(TOLD / limit)
    if looked < enough and bad < reject_at and trays < stack.left:
        told = f"{plural(looked, 'tuber')} tell little of a limit of {share(limit, 1)}: {enough:,} and more do. Give the verdict on them all the same?"
        ctx.doubt("few", "looked", told)
    made = TuberCheck.objects.create(
        organisation=ctx.organisation,
        by=ctx.user,
        client_uuid=client_uuid,
        happened_at=ctx.now,
        reason=note.strip()[:300],
        stack=stack,
        trays=trays,
        looked=looked,
        bad=bad,
        limit=limit,
        reject_at=reject_at,
        sprout_mm=sprout_mm,
    )
    told = f"Looked at {plural(trays, 'tray')} of {_named(stack)}: {bad:,} of {looked:,} below standard, {'rejected' if made.rejected else 'passed'} (rejected from {made.reject_at:,} on, limit {share(limit, 1)})."
    ctx.record("tubers.look", told, stack)
    return made


@act
def turn(ctx: Ctx, stack_id: Ref) -> TuberStack:
    """Stacks were moved, so that lamps and air reach what did not have them."""
    stack = ctx.get(TuberStack, stack_id, lock=True)
    if not stack.left:
        raise refuse("stack_id", "nothing", f"Nothing is left of stacks {stack.first} to {stack.last}.")
    stack.turned_on = ctx.today
    stack.save(update_fields=["turned_on"])
    ctx.record("tubers.turn", f"Turned {_named(stack)}.", stack)
    return stack


@act
def carry_out(
    ctx: Ctx, stack_id: Ref, *, trays: int, to: str, client_uuid: uuid.UUID, thrown: bool = False
) -> TuberStack:
    """Trays were carried out to be planted, or `thrown` away: their tubers leave the lot.

    What was rejected or is held is planted nowhere until it passes; it may be thrown away.
    """
    stack = ctx.get(TuberStack, stack_id, lock=True)
    if stack.lot.movements.filter(client_uuid=client_uuid).exists():
        return stack
    if not to.strip():
        raise refuse("to", "missing", "Where to, or why? A field, a tunnel, rot.")
    if not 1 <= trays <= stack.left:
        told = f"Of these stacks {plural(stack.left, 'tray')} stand: 1 to so many." if stack.left else "None is left."
        raise refuse("trays", "out_of_range", told)
    newest = newest_check(stack)
    if thrown:
        return _out(ctx, stack, trays, to, client_uuid, THROWN)
    if newest is not None and newest.rejected:
        told = f"{_named(stack).capitalize()} were rejected on {day(ctx.local(newest.happened_at).date())}, {newest.bad:,} of {newest.looked:,} below standard. Sort them and look again, or throw them away."
        raise refuse("stack_id", "rejected", told)
    if newest is None:
        ctx.doubt("not_looked", "trays", f"Nobody has looked through {_named(stack)} yet. Carry them out all the same?")
    return _out(ctx, stack, trays, to, client_uuid, OUT)


def _out(ctx: Ctx, stack: TuberStack, trays: int, to: str, client_uuid: uuid.UUID, kind: str) -> TuberStack:
    """Trays leave their stacks and their tubers the lot; through the door that holds guard where they are planted."""
    tubers = stack.left_tubers if trays == stack.left else min(stack.left_tubers, trays * stack.a_tray)
    quantity = Quantity.of(tubers, unit(stack.lot.unit))
    wanted = Wanted(stack.lot.crop, stack.lot.line, FORM, for_what=OUT)
    take_from_stock(
        ctx,
        stack.lot,
        quantity,
        kind,
        on=ctx.today,
        wanted=None if kind == THROWN else wanted,
        subject=stack,
        subject_code=stack.lot.code,
        reason=to.strip()[:300],
        client_uuid=client_uuid,
    )
    stack.left -= trays
    stack.left_tubers -= tubers
    stack.save(update_fields=["left", "left_tubers"])
    told = f"Threw {plural(trays, 'tray')} of {_named(stack)} away: {to.strip()}." if kind == THROWN else ""
    ctx.record("tubers.out", told or f"Carried {plural(trays, 'tray')} of {_named(stack)} out to {to.strip()}.", stack)
    return stack


@act
def sample(ctx: Ctx, *, crew: str, looked: int, damaged: int, client_uuid: uuid.UUID, note: str = "") -> LiftingSample:
    """A digging crew looked through what it lifted."""
    done = ctx.rows(LiftingSample).filter(client_uuid=client_uuid).first()
    if done is not None:
        return done
    if not crew.strip():
        raise refuse("crew", "missing", "Which crew, machine or field?")
    if not 1 <= looked <= MOST_LOOKED:
        raise refuse("looked", "out_of_range", f"How many tubers were looked at? 1 to {MOST_LOOKED:,}.")
    if not 0 <= damaged <= looked:
        raise refuse("damaged", "out_of_range", f"{damaged:,} of {looked:,} cannot be damaged.")
    made = LiftingSample.objects.create(
        organisation=ctx.organisation,
        by=ctx.user,
        client_uuid=client_uuid,
        happened_at=ctx.now,
        reason=note.strip()[:300],
        crew=crew.strip()[:60],
        looked=looked,
        damaged=damaged,
    )
    ctx.record("tubers.sample", f"{made.crew}: {damaged:,} of {looked:,} damaged in lifting.", made)
    return made


def _named(stack: TuberStack) -> str:
    many = f"stacks {stack.first} to {stack.last}" if stack.last > stack.first else f"stack {stack.first}"
    return f"{many}, {stack.lot.crop.name.lower()} grade {stack.grade}"


def due_on(stack: TuberStack) -> date | None:
    """When stacks are turned next; None where they never are, or nothing is left."""
    return stack.turned_on + timedelta(days=stack.turn_every) if stack.turn_every and stack.left else None


def in_store(ctx: Ctx) -> QuerySet[TuberStack]:
    """What still stands in the store."""
    return shown(ctx).filter(left__gt=0)


def sprouts(ctx: Ctx, stack: TuberStack, wanted_mm: float) -> tuple[float | None, date | None]:
    """How fast its sprouts grew [mm per °C·d] between the two newest readings, and when they are `wanted_mm` long so."""
    read = sorted(
        (one for one in stack.checks.all() if one.sprout_mm is not None), key=lambda one: (one.happened_at, one.pk)
    )
    if len(read) < 2 or stack.place is None:
        return None, None
    climate = climate_of(stack.place)
    before, newest = read[-2:]
    days = [ctx.local(one.happened_at).date() for one in (before, newest)]
    means = [mean_on(climate, days[0] + ONE * n) for n in range((days[1] - days[0]).days)]
    assert before.sprout_mm is not None and newest.sprout_mm is not None
    rate = sprout_rate(first_mm=before.sprout_mm, last_mm=newest.sprout_mm, mean_c=means)
    if not rate:
        return rate, None
    ahead = [mean_on(climate, days[1] + ONE * n) for n in range(AHEAD_DAYS)]
    found = sprout_days(now_mm=newest.sprout_mm, wanted_mm=wanted_mm, mm_per_c_d=rate, mean_c=ahead)
    return rate, None if found is None or found > 3 * AHEAD_DAYS else days[1] + ONE * found


def totals(ctx: Ctx) -> tuple[int, int, int]:
    """Trays, tubers and stacks that still stand."""
    found = ctx.rows(TuberStack).filter(left__gt=0).aggregate(trays=Sum("left"), tubers=Sum("left_tubers"))
    stacks = sum(
        -(-left // each) for left, each in ctx.rows(TuberStack).filter(left__gt=0).values_list("left", "trays_a_stack")
    )
    return found["trays"] or 0, found["tubers"] or 0, stacks


def on_the_sheet(ctx: Ctx, first: date, days: int) -> Sequence[Beside]:
    """Which stacks are turned on these days; what is late is turned today."""
    last = first + timedelta(days=days - 1)
    if last < ctx.today:
        return []
    by_day: dict[date, list[TuberStack]] = {}
    for stack in in_store(ctx):
        due = due_on(stack)
        if due is None:
            continue
        on = max(due, ctx.today)
        while on <= last:
            if on >= first:
                by_day.setdefault(on, []).append(stack)
            on += timedelta(days=stack.turn_every)
    return [
        Beside(
            on,
            "morning",
            f"Turn {plural(len(stacks), 'range')} of tuber stacks: {', '.join(f'{one.first}–{one.last}' for one in stacks[:6])}{' …' if len(stacks) > 6 else ''}.",
            "/stockplants/tubers",
            wrong=any((due := due_on(one)) is not None and due < ctx.today for one in stacks) and on == ctx.today,
        )
        for on, stacks in sorted(by_day.items())
    ]
