"""Growing media as identified quantities: washed and read until they pass, let through by a person, and where they went."""

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from typing import Any
from uuid import UUID

from django.db import models
from django.utils import timezone

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.base.words import day, plural
from aldrip.lots.models import MediumLot, MediumReading, MediumUse
from aldrip.places.models import Place
from aldrip_core.conditioning import Conditioning, MediumLimits, Wash, conditioning, read_wash

MOST_LITRES = 1_000_000
OVER = Decimal("1.05")  # a heap is never measured nearer than so; common practice, no source


@dataclass(frozen=True)
class MediumSpec:
    """What is said of a medium: what it is, how much [L], and its limits; none where it needs no washing."""

    name: str
    litres: float
    limits: MediumLimits | None = None
    since: date | None = None
    place_id: int | None = None
    note: str = ""


def limits_of(medium: MediumLot) -> MediumLimits | None:
    """Under which limits a medium may be sown into, None where it has none."""
    if medium.ph_low is None or medium.ph_high is None or medium.ec_below is None:
        return None
    return MediumLimits(medium.ph_low, medium.ph_high, medium.ec_below)


def readings_of(medium: MediumLot) -> list[MediumReading]:
    """What was read of it, in the order of the washes; a corrected one as it was put right, where it stood."""
    rows = list(medium.readings.select_related("by").order_by("pk"))
    by_pk = {one.pk: one for one in rows}
    gone = {one.replaces_id for one in rows}

    def stood(one: MediumReading) -> int:
        while one.replaces_id is not None:
            one = by_pk[one.replaces_id]
        return one.pk

    return sorted((one for one in rows if one.pk not in gone), key=stood)


def judged(medium: MediumLot, readings: Sequence[MediumReading] | None = None) -> Conditioning | None:
    """Where a medium stands by its readings; None where it has no limits."""
    limits = limits_of(medium)
    if limits is None:
        return None
    rows = readings_of(medium) if readings is None else readings
    return conditioning([Wash(one.ph, one.ec) for one in rows], limits)


def standing_words(medium: MediumLot, found: Conditioning | None) -> str:
    """Where a medium stands, in a sentence."""
    if medium.state == MediumLot.State.REJECTED:
        return f"Not to be used: {medium.decided_why}."
    if medium.state == MediumLot.State.PASSED:
        why = f" against its readings: {medium.decided_why}" if medium.decided_why else ""
        when = f" on {day(medium.decided_at.date())}" if medium.decided_at else ""
        return f"Passed{when}{why}."
    if found is None or found.fit:
        return "Inside its limits: let it through."
    more = found.more_washes
    to_come = f" About {more} more {'wash' if more == 1 else 'washes'}." if more else ""
    warned = "".join(f" {one.message}" for one in found.warnings)
    return f"Wash it: {', '.join(found.lacks)}.{to_come}{warned}"


@act
def add_medium(ctx: Ctx, spec: MediumSpec) -> MediumLot:
    """A medium was bought, mixed or set to wash. Without limits it may be sown into at once."""
    name = spec.name.strip()
    if not name:
        raise refuse("name", "missing", "What is it? Coir, peat, the name of a mix.")
    if not 0 < spec.litres <= MOST_LITRES:
        raise refuse("litres", "out_of_range", f"How many litres? More than none, at most {MOST_LITRES:,}.")
    since = spec.since or ctx.today
    if since > ctx.today:
        raise refuse("since", "in_the_future", f"{since} is still to come.")
    if spec.limits is not None:
        conditioning([], spec.limits)  # limits that nothing meets are refused
    free = spec.limits is None
    litres = Decimal(str(round(spec.litres, 1)))
    made = MediumLot.objects.create(
        organisation=ctx.organisation,
        code=ctx.next_code("medium")[0],
        name=name[:120],
        since=since,
        litres=litres,
        left=litres,
        ph_low=spec.limits.ph_low if spec.limits else None,
        ph_high=spec.limits.ph_high if spec.limits else None,
        ec_below=spec.limits.ec_below if spec.limits else None,
        place=ctx.get(Place, spec.place_id) if spec.place_id else None,
        state=MediumLot.State.PASSED if free else MediumLot.State.WAITS,
        decided_at=ctx.now if free else None,
        decided_by=ctx.user if free else None,
        note=spec.note.strip()[:300],
    )
    ctx.record("medium.add", f"{made}: {litres:,} L{'' if free else ', to be washed'}.", made)
    return made


@act
def read_medium(
    ctx: Ctx,
    medium_id: Ref,
    *,
    ph: float,
    ec: float,
    client_uuid: UUID,
    replaces: int | None = None,
    reason: str = "",
) -> MediumLot:
    """pH and EC of a medium after a wash, or a reading put right. What passed and reads otherwise now must pass again."""
    done = ctx.rows(MediumReading).filter(client_uuid=client_uuid).select_related("medium").first()
    if done is not None:
        return done.medium
    medium = ctx.get(MediumLot, medium_id, lock=True)
    if medium.state == MediumLot.State.REJECTED:
        raise refuse("medium_id", "rejected", f"{medium} is not to be used. Take that back first.")
    wash = read_wash(ph, ec)
    old = None
    if replaces is not None:
        old = medium.readings.filter(pk=replaces).first()
        if old is None:
            raise refuse("replaces", "elsewhere", "No such reading was taken of this medium.")
        if MediumReading.objects.filter(replaces=old).exists():
            raise refuse("replaces", "replaced", "That was put right already. Look again.")
        if not reason.strip():
            raise refuse("reason", "missing", "Say why it was wrong.")
    MediumReading.objects.create(
        organisation=ctx.organisation,
        by=ctx.user,
        medium=medium,
        ph=wash.ph,
        ec=wash.ec,
        happened_at=old.happened_at if old else ctx.now,
        client_uuid=client_uuid,
        replaces=old,
        reason=reason[:300],
    )
    found = judged(medium)
    if medium.state == MediumLot.State.PASSED and found is not None and not found.fit and not medium.decided_why:
        medium.state, medium.decided_at, medium.decided_by = MediumLot.State.WAITS, None, None
        medium.save(update_fields=["state", "decided_at", "decided_by"])
    was = f" (was pH {old.ph:g}, EC {old.ec:g}): {reason}" if old else ""
    ctx.record("medium.read", f"{medium}: pH {ph:g}, EC {ec:g} mS/cm{was}.", medium)
    return medium


@act
def decide_medium(ctx: Ctx, medium_id: Ref, *, decision: str, why: str = "") -> MediumLot:
    """Let a medium through, against its readings only with a reason; or say that it is not to be used; or that it waits."""
    medium = ctx.get(MediumLot, medium_id, lock=True)
    found, why = judged(medium), why.strip()
    if decision not in MediumLot.State.values:
        raise refuse("decision", "not_a_choice", f"“{decision}” is none of {', '.join(MediumLot.State.values)}.")
    against = decision == MediumLot.State.PASSED and found is not None and not found.fit
    if against and not why:
        told = f"{medium} is not inside its limits: {', '.join(found.lacks if found else ())}. Say why it is used all the same, or wash it again."
        raise refuse("why", "missing", told)
    if decision == MediumLot.State.REJECTED and not why:
        raise refuse("why", "missing", "Why is it not to be used?")
    waits = decision == MediumLot.State.WAITS
    medium.state, medium.decided_why = decision, why[:300] if against or decision == MediumLot.State.REJECTED else ""
    medium.decided_at, medium.decided_by = (None, None) if waits else (ctx.now, ctx.user)
    medium.save(update_fields=["state", "decided_why", "decided_at", "decided_by"])
    ctx.record("medium.decide", f"{medium}: {standing_words(medium, found)}", medium)
    return medium


def use_medium(
    ctx: Ctx,
    medium_id: Ref,
    litres: float,
    *,
    subject: models.Model,
    subject_code: str,
    on: date,
    field: str = "medium_id",
) -> MediumUse:
    """So many litres of a medium go under a batch. Raises Refused where it has not passed. Call inside an act."""
    medium = ctx.get(MediumLot, medium_id, lock=True)
    if medium.state != MediumLot.State.PASSED:
        told = f"{medium} has not passed. {standing_words(medium, judged(medium))} Nothing is sown into it before that."
        raise refuse(field, "not_passed", told)
    if on < medium.since:
        raise refuse(
            field, "too_early", f"{medium} is there since {day(medium.since)}; nothing was sown into it before."
        )
    taken = Decimal(str(round(litres, 1)))
    if taken <= 0:
        raise refuse("litres", "nothing", f"How many litres of {medium} were used? More than none.")
    if taken > medium.left * OVER:
        told = f"{medium} has {medium.left:,} L left; {taken:,} L went into these trays? Then it was more than was written down."
        ctx.doubt("medium_left", field, told)
    medium.left = max(Decimal(0), medium.left - taken)
    medium.save(update_fields=["left"])
    newest = readings_of(medium)[-1:]
    read = f", pH {newest[0].ph:g}, EC {newest[0].ec:g}" if newest else ""
    return MediumUse.objects.create(
        organisation=ctx.organisation,
        by=ctx.user,
        medium=medium,
        subject_kind=subject._meta.model_name or "",
        subject=subject.uuid,  # type: ignore[attr-defined]
        subject_code=subject_code,
        litres=taken,
        said=f"{standing_words(medium, None)}{read}"[:200],
        happened_at=ctx.at(on),
        client_uuid=uuid.uuid4(),
    )


def also_running(ctx: Ctx) -> list[dict[str, Any]]:
    """Media that are washed and have not passed: what waits for them is held."""
    rows = ctx.rows(MediumLot).filter(state=MediumLot.State.WAITS, left__gt=0).prefetch_related("readings__by")
    lead = timezone.now() - ctx.now
    found = []
    for medium in rows.order_by("pk"):
        readings = readings_of(medium)
        told = standing_words(medium, judged(medium, readings)).removeprefix("Wash it: ")
        since = readings[0].happened_at if readings else ctx.at(medium.since)
        found.append(
            {
                "kind": "medium",
                "name": f"{medium.name}, washed {plural(len(readings), 'time')}" if readings else medium.name,
                "code": medium.code,
                "words": f"{told} Blocks sowing into it",
                "since": since + lead,
                "until": None,
                "link": f"/sowing?medium={medium.uuid}",
            }
        )
    return found
