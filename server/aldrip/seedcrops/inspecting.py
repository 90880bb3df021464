"""Visits to a block at predicted stages: the plan, the count, the verdict, and what was signed."""

import uuid
from base64 import b64decode
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from typing import Any

from django.db import IntegrityError, transaction
from django.db.models import Exists, OuterRef
from django.utils import timezone

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import NotThere, ServiceError, refuse
from aldrip.base.photos import NoPhoto, read_photo
from aldrip.base.words import plural, share, who
from aldrip.diary.services import Work, finish_task, put_task
from aldrip.lots.models import Intake
from aldrip.methods.models import Standard
from aldrip.methods.resolver import Library
from aldrip.methods.services import class_scheme
from aldrip.places.ground import centre_of
from aldrip.seedcrops.flowering import match_of, shedding_from
from aldrip.seedcrops.laying import layout_of, left_m2, left_of, load_block, plan_rows, ring_m, saved_batch
from aldrip.seedcrops.models import Inspection, InspectionCount, InspectionPhoto, SeedBlock
from aldrip_core.field_inspection import (
    Choice,
    FaultLimit,
    Judgement,
    SamplingPlan,
    State,
    choices,
    decision_table,
    judge,
    metres_to_walk,
    off_types_expected,
    roguing_hours,
    spread_areas,
    visit_day,
)
from aldrip_core.geometry import to_degrees
from aldrip_core.plausible import WEEKS_OFF
from aldrip_core.refusal import Refused
from aldrip_core.reject_number import Decision
from aldrip_core.rows_left import metres_left
from aldrip_core.stages import Trait

DISPENSED = "dispense"
MOST_PLANTS = 100_000
TWICE = 1.5  # of an area’s plants, counted by several people: more than they shared out


class InspectionClosed(ServiceError):
    """A count came for an inspection that is signed; the phone keeps and shows what was entered."""

    status = 409
    code = "inspection_closed"


def field_standard(ctx: Ctx, block: SeedBlock) -> Standard | None:
    """The field standard of a block's crop and class; own ones before those that ship."""
    rows = Library(ctx).ordered(Standard).filter(kind="field", customer="", crop__slug=block.batch.crop.slug)
    return rows.filter(seed_class=block.seed_class).first()


def plan_visits(ctx: Ctx, block: SeedBlock) -> None:
    """The visits that the method asks for, on the days on which the block will stand at their stage."""
    for number, visit in enumerate(block.batch.method_snapshot["layout"].get("visits", []), start=1):
        inspection = Inspection(
            organisation=ctx.organisation,
            block=block,
            number=number,
            stage=visit["stage"],
            words=visit["words"],
            share=visit.get("share"),
            days_after=visit.get("days_after", 0),
            planned_on=ctx.today,
        )
        inspection.planned_on = _day_of(ctx, block, inspection)
        inspection.save()
        _task(ctx, block, inspection)


def _day_of(ctx: Ctx, block: SeedBlock, inspection: Inspection) -> date:
    """The working day on which a visit should be made."""
    working, _ = ctx.calendars()
    before = inspection.stage == "before"
    try:
        match = match_of(block)
        sheds, flowers = shedding_from(match), match.first
    except Refused:  # no heat sums: the batch's own stages say when
        saved = saved_batch(block)
        flower = saved.with_trait(Trait.FLOWERS)
        sheds = None
        flowers = flower.planned.lower if flower else saved.first.planned.upper
    ripe = flowers + timedelta(days=_days_to_ripe(block)) if inspection.stage == "maturity" else None
    day = visit_day(
        before=before, days_after=inspection.days_after, shedding_from=sheds, flowers_from=flowers, ripe_from=ripe
    )
    return working.on_or_before(day) if before else working.on_or_after(day)


def _days_to_ripe(block: SeedBlock) -> int:
    """Days from first flowers to the cut, as the method of a block has them."""
    spine = list(saved_batch(block).method.spine)
    names = [stage.key for stage in spine if stage.does(Trait.FLOWERS) or stage.does(Trait.LOADS)]
    if len(names) < 2:
        return 0
    first, last = (next(n for n, stage in enumerate(spine) if stage.key == key) for key in (names[0], names[-1]))
    return round(sum(stage.duration.days or 0 for stage in spine[first:last]))


def _task(ctx: Ctx, block: SeedBlock, inspection: Inspection) -> None:
    work = Work(
        visit_key(inspection), "inspect", f"Inspect {block.batch.crop.name.lower()}: {inspection.words.lower()}"
    )
    put_task(
        ctx,
        block.batch,
        work,
        place=block.field,
        due=inspection.planned_on,
        until=inspection.planned_on + timedelta(days=3),
        part="early",
        minutes=120,
        caution="Sun and heat; bees when in flower. Take water and tell where you are",
    )


def visit_key(inspection: Inspection) -> str:
    """The key of the task that a visit is."""
    return f"inspect:{inspection.number}"


def move_visits(ctx: Ctx, block: SeedBlock) -> None:
    """Planned visits follow the predicted stages."""
    for inspection in block.inspections.filter(state=Inspection.State.PLANNED, follows=None):
        day = _day_of(ctx, block, inspection)
        if day != inspection.planned_on and day >= ctx.today:
            inspection.planned_on = day
            inspection.save(update_fields=["planned_on"])
            _task(ctx, block, inspection)


def limits_of(rows: Sequence[Mapping[str, Any]]) -> list[FaultLimit]:
    """A field standard's limits in core's terms."""
    return [
        FaultLimit(
            r["attribute"],
            r["words"],
            r["limit"],
            Decision(r.get("decision", "reject_number")),
            r.get("alpha", 0.05),
            r.get("cures", True),
            r.get("source"),
        )
        for r in rows
    ]


def get_inspection(ctx: Ctx, pk: Ref, *, lock: bool = False) -> Inspection:
    inspection = ctx.get(Inspection, pk, lock=lock)
    inspection.block = load_block(ctx, inspection.block_id)
    return inspection


@act
def begin(ctx: Ctx, inspection_id: Ref) -> Inspection:
    """Begin a count: limits, areas and their places are frozen from the standard of the class."""
    inspection = get_inspection(ctx, inspection_id, lock=True)
    if inspection.state != Inspection.State.PLANNED:
        return inspection
    block = inspection.block
    if not any(p.sown.all() for p in block.parents.all()):
        raise refuse("state", "not_sown", f"{block.batch.code} is not sown yet; there is nothing to count.")
    standard = field_standard(ctx, block)
    if standard is None:
        raise refuse(
            "standard",
            "missing",
            f"No field standard for {block.batch.crop.name.lower()} of this class. Add one in Methods.",
        )
    _doubt_begin(ctx, block, inspection)
    plan = SamplingPlan(**standard.sampling)
    ground = left_of(block) or [[ring_m(block)]]
    areas = plan.areas(left_m2(block) / 10_000)
    east, north = centre_of(block.field.site)
    inspection.standard, inspection.limits, inspection.areas = standard, standard.limits, areas
    inspection.plants_per_area, inspection.state = plan.plants_per_area, Inspection.State.OPEN
    inspection.points = [list(p) for p in to_degrees(spread_areas(ground, areas), longitude=east, latitude=north)]
    inspection.save()
    ctx.record(
        "inspection.begin", f"Began to count {block.batch.code}: {inspection.words.lower()}, {areas} areas.", block
    )
    return inspection


def _doubt_begin(ctx: Ctx, block: SeedBlock, inspection: Inspection) -> None:
    """A visit that is begun long before its stage, or on a field that is cut, is asked about."""
    cut = ctx.rows(Intake).filter(subject=block.batch.uuid).order_by("happened_at").first()
    if cut is not None:
        told = f"{block.batch.code} was cut on {ctx.local(cut.happened_at).date()}; no plants stand there any more. Count all the same?"
        ctx.doubt("visit", "state", told)
        return
    days = (inspection.planned_on - ctx.today).days
    told = f"“{inspection.words}” is foreseen for {inspection.planned_on}, in {days} days. Is the field at that stage today?"
    ctx.doubt("visit", "state", told if days > WEEKS_OFF else None)


@dataclass(frozen=True)
class Entry:
    """One tap on a count sheet, made somewhere, perhaps without a signal."""

    client_uuid: uuid.UUID
    area: int
    plants: int
    faults: dict[str, int]
    note: str = ""
    photo: str = ""  # base64
    takes_back: uuid.UUID | None = None
    counted_at: datetime | None = None  # by the clock of the phone, where it was made without a signal


@dataclass(frozen=True)
class Kept:
    """What became of an entry: kept now, kept already, or why not."""

    client_uuid: uuid.UUID
    kept: bool
    code: str = ""
    message: str = ""


@act
def count(ctx: Ctx, inspection_id: Ref, entries: Sequence[Entry]) -> list[Kept]:
    """Entries of a count, each once; a bad one is told and the others are kept."""
    inspection = get_inspection(ctx, inspection_id, lock=True)
    if inspection.state == Inspection.State.PLANNED:
        begin(ctx, inspection_id)
        inspection = get_inspection(ctx, inspection_id, lock=True)
    known = {c.client_uuid: c for c in ctx.rows(InspectionCount).filter(inspection=inspection)}
    answers: list[Kept] = []
    fresh: list[InspectionCount] = []
    pictures: set[int] = set()
    for entry in entries:
        if entry.client_uuid in known:
            answers.append(Kept(entry.client_uuid, True, "known"))
            continue
        if inspection.state == Inspection.State.SIGNED:
            raise InspectionClosed(
                f"Inspection {inspection.number} of {inspection.block.batch.code} is signed. What you counted since stays on this phone; "
                "copy it, or ask for a new visit.",
                decision=inspection.decision,
            )
        fault = _wrong(inspection, entry, known)
        if fault is not None:
            answers.append(fault)
            continue
        taken = known[entry.takes_back] if entry.takes_back else None
        try:
            photo = read_photo(entry.photo) if entry.photo else ""
        except NoPhoto as why:
            answers.append(Kept(entry.client_uuid, False, "photo", str(why)))
            continue
        try:
            with transaction.atomic():
                made = InspectionCount.objects.create(
                    organisation=ctx.organisation,
                    by=ctx.user,
                    inspection=inspection,
                    area=entry.area,
                    plants=entry.plants,
                    faults={k: v for k, v in entry.faults.items() if v},
                    note=entry.note[:300],
                    happened_at=_when(ctx, entry),
                    client_uuid=entry.client_uuid,
                    replaces=taken,
                    reason="taken back" if taken else "",
                )
                if photo:
                    InspectionPhoto.objects.create(count=made, jpeg=photo)
                    pictures.add(made.pk)
        except IntegrityError:  # the same uuid elsewhere, or the entry was taken back meanwhile
            answers.append(Kept(entry.client_uuid, False, "used", "This entry was kept elsewhere already."))
            continue
        known[made.client_uuid] = made
        answers.append(Kept(entry.client_uuid, True))
        fresh.append(made)
    if fresh:
        plants, areas = sum(one.plants for one in fresh), sorted({one.area for one in fresh})
        where = f"area {areas[0]}" if len(areas) == 1 else f"{len(areas)} areas"
        at = f"{where} at inspection {inspection.number} of {inspection.block.batch.code}"
        noted = all((one.note or one.pk in pictures) and not one.plants and not one.faults for one in fresh)
        found = sum(many for one in fresh for many in one.faults.values())
        what = " and ".join(
            [plural(plants, "plant")] * bool(plants or not found) + [f"{found:,} of what is not wanted"] * bool(found)
        )
        sentence = f"Added {plural(len(fresh), 'note')} to {at}." if noted else f"Counted {what} in {at}."
        ctx.record("seed.inspection_count", sentence, inspection)
    return answers


OLDEST_ENTRY = timedelta(days=30)


def _when(ctx: Ctx, entry: Entry) -> datetime:
    """When an entry was made, on the organisation's clock: by the phone, unless its clock cannot be right."""
    real = timezone.now()
    if entry.counted_at is None or not real - OLDEST_ENTRY <= entry.counted_at <= real:
        return ctx.now
    return ctx.now - (real - entry.counted_at)


def _wrong(inspection: Inspection, entry: Entry, known: Mapping[uuid.UUID, InspectionCount]) -> Kept | None:
    def no(code: str, message: str) -> Kept:
        return Kept(entry.client_uuid, False, code, message)

    attributes = {limit["attribute"] for limit in inspection.limits}
    if not 1 <= entry.area <= inspection.areas:
        return no("area", f"There are areas 1 to {inspection.areas}; {entry.area} is none of them.")
    if not 0 <= entry.plants <= MOST_PLANTS or any(not 0 <= n <= MOST_PLANTS for n in entry.faults.values()):
        return no("out_of_range", f"Between 0 and {MOST_PLANTS:,} can be counted in one entry.")
    unknown = sorted(set(entry.faults) - attributes)
    if unknown:
        return no("unknown_fault", f"This count does not ask for {unknown[0]}.")
    if entry.takes_back is not None:
        target = known.get(entry.takes_back)
        if target is None:
            return no("not_there", "The entry that was taken back has not arrived.")
        if entry.plants or any(entry.faults.values()):
            return no("takes_back", "An entry that takes another back counts nothing itself.")
    return None


@dataclass(frozen=True)
class Tally:
    """What stands of a count: plants and faults in all and by area."""

    plants: int
    faults: dict[str, int]
    by_area: dict[int, int]
    by_person: Mapping[int, Mapping[str, int]] = field(default_factory=dict)  # within an area

    def twice(self, plants_per_area: int) -> list[str]:
        """Areas that several people seem to have counted each for themselves, in sentences."""
        said = []
        for area, people in sorted(self.by_person.items()):
            if len(people) > 1 and sum(people.values()) >= TWICE * plants_per_area:
                each = " and ".join(f"{name} ({many:,})" for name, many in people.items())
                said.append(f"Area {area} was counted by {each}.")
        return said


def pictured() -> Exists:
    """Whether a photo came with an entry."""
    return Exists(InspectionPhoto.objects.filter(count=OuterRef("pk")))


def notes_of(inspection: Inspection) -> list[Any]:
    """Notes and photos of a visit that were not taken back, in the order in which they came; `pictured` where there is one."""
    rows = inspection.counts.filter(replaced_by=None).annotate(pictured=pictured())
    return list(rows.exclude(note="", pictured=False).select_related("by").order_by("pk"))


def photo_of(ctx: Ctx, inspection_id: Ref, entry: Ref) -> bytes:
    """The photo that came with an entry of a visit, as JPEG. Raises NotThere."""
    inspection = ctx.get(Inspection, inspection_id)
    named = {"count__client_uuid": entry} if isinstance(entry, uuid.UUID) else {"count": entry}
    found = InspectionPhoto.objects.filter(count__inspection=inspection, **named).first()
    if found is None:
        raise NotThere("There is no such photo here.")
    return b64decode(found.jpeg)


def tally_of(inspection: Inspection) -> Tally:
    """Sum of the entries that were not taken back. A fault is a plant that was looked at."""
    rows = list(inspection.counts.select_related("by").order_by("pk"))
    gone = {row.replaces_id for row in rows if row.replaces_id}
    by_person: dict[int, dict[str, int]] = defaultdict(lambda: defaultdict(int))
    plants = 0
    faults: dict[str, int] = defaultdict(int)
    by_area: dict[int, int] = defaultdict(int)
    # A weed or a plant of another crop is none of the plants looked at.
    beside = {limit["attribute"] for limit in inspection.limits if not limit.get("is_plant", True)}
    for row in rows:
        if row.pk in gone:
            continue
        whole = row.plants + sum(many for attribute, many in row.faults.items() if attribute not in beside)
        plants += whole
        by_area[row.area] += whole
        if whole:
            by_person[row.area][who(row.by, "somebody who has left")] += whole
        for attribute, many in row.faults.items():
            faults[attribute] += many
    return Tally(plants, dict(faults), dict(by_area), {area: dict(people) for area, people in by_person.items()})


def sample_of(inspection: Inspection) -> int:
    return inspection.areas * inspection.plants_per_area


def judgement_of(inspection: Inspection, tally: Tally | None = None) -> Judgement:
    """The running verdict."""
    tally = tally or tally_of(inspection)
    return judge(
        limits=limits_of(inspection.limits),
        sample=sample_of(inspection),
        plants=tally.plants,
        found=tally.faults,
        by_area=tally.by_area,
        areas=inspection.areas,
    )


def table_for(inspection: Inspection) -> Any:
    """What the phone looks up without a signal."""
    return decision_table(limits=limits_of(inspection.limits), sample=sample_of(inspection))


def is_shedding(ctx: Ctx, block: SeedBlock) -> bool:
    """Whether pollen must be reckoned with in a block today; without heat sums, from its flowering stage on."""
    try:
        return ctx.today >= shedding_from(match_of(block))
    except Refused:
        flower = saved_batch(block).with_trait(Trait.FLOWERS)
        return flower is not None and ctx.today >= (flower.actual_start or flower.planned.lower)


def lower_class(ctx: Ctx, block: SeedBlock) -> str:
    """The next class below a block's in the house's scheme; empty at the end of it."""
    scheme = class_scheme(ctx)
    if scheme is None:
        return ""
    unfit = scheme.unfit_for(block.step)
    return next((name for name in scheme.below(block.seed_class) if name not in unfit), "")


def spreads_pollen(ctx: Ctx, block: SeedBlock) -> bool:
    """Whether what is faulty in a block may have spoilt others by now; in a crop that pollinates itself it does not."""
    return block.batch.crop.pollination != "self" and is_shedding(ctx, block)


def choices_for(ctx: Ctx, inspection: Inspection, judgement: Judgement) -> tuple[Choice, ...]:
    return choices(
        judgement=judgement,
        shedding=spreads_pollen(ctx, inspection.block),
        lower_class=bool(lower_class(ctx, inspection.block)),
    )


def hours_to_rogue(block: SeedBlock, judgement: Judgement) -> float:
    """Person-hours to walk the rows and take out what the count makes expect."""
    if block.pattern:
        plan = plan_rows(layout_of(block), ring_m(block), {})
        metres = sum(metres_left(plan.rows, left_of(block)).values())
        plants = sum(plan.plants.values()) * metres / sum(plan.metres.values())
    else:
        area = left_m2(block)
        metres, plants = metres_to_walk(area), area * (block.target_per_m2 or 0)
    return roguing_hours(row_metres=metres, off_types=off_types_expected(judgement, plants))


@act
def sign(ctx: Ctx, inspection_id: Ref, *, decision: str, reason: str = "") -> Inspection:
    """Sign what follows a count. Only what the count allows can be signed; both counts of a rogued field stay."""
    inspection = get_inspection(ctx, inspection_id, lock=True)
    block = inspection.block
    if inspection.state != Inspection.State.OPEN:
        said = "is signed already" if inspection.state == Inspection.State.SIGNED else "has not begun"
        raise refuse("state", "closed", f"Inspection {inspection.number} of {block.batch.code} {said}.")
    tally = tally_of(inspection)
    judgement = judgement_of(inspection, tally)
    allowed = choices_for(ctx, inspection, judgement)
    grounds = decision == Choice.REJECT and decision not in allowed
    if grounds and not reason.strip():
        told = "The count does not reject it. On what other grounds is the field rejected? Say so in a word to it."
        raise refuse("reason", "missing", told)
    if decision not in allowed and not grounds:
        raise refuse("decision", "not_allowed", _why_not(ctx, block, decision, judgement))
    twice = tally.twice(inspection.plants_per_area)
    if twice and not grounds and not reason.strip():
        raise refuse(
            "reason",
            "counted_twice",
            f"{' '.join(twice)} Were these other plants? Say so in a word to it, or take one of the two counts back on the sheet.",
        )
    wanted = Choice(decision)
    inspection.state, inspection.decision = Inspection.State.SIGNED, wanted.value
    inspection.signed_by, inspection.signed_role, inspection.signed_at = ctx.user, ctx.role, ctx.now
    inspection.counted = {"plants": tally.plants, "faults": tally.faults}
    told = sentence_of(judgement) + (f" {reason.strip()}" if reason.strip() else "")
    inspection.sentence = (f"On other grounds: {reason.strip()}. {sentence_of(judgement)}" if grounds else told)[:400]
    inspection.save()
    finish_task(ctx, block.batch, visit_key(inspection))
    if wanted is Choice.ROGUE:
        _rogue(ctx, inspection, judgement)
    elif wanted is Choice.DOWNGRADE:
        block.seed_class = lower_class(ctx, block)
        block.version += 1
        block.save(update_fields=["seed_class", "version"])
    words = {
        "accept": "accepted",
        "rogue": "to be rogued and inspected again",
        "downgrade": f"downgraded to {block.seed_class}",
        "reject": "rejected",
    }
    ctx.record(
        "inspection.sign",
        f"{block.batch.code}, {inspection.words.lower()}: {words[wanted.value]}. {inspection.sentence}",
        block,
        after={"inspection": str(inspection.uuid), "decision": wanted.value},
    )
    return inspection


@act
def dispense(ctx: Ctx, inspection_id: Ref, *, given_by: str, reason: str) -> Inspection:
    """Sign that a visit is dispensed with: who gave it, on what grounds. One visit of a field is always counted."""
    inspection = get_inspection(ctx, inspection_id, lock=True)
    block = inspection.block
    if inspection.state == Inspection.State.SIGNED:
        raise refuse("state", "closed", f"Inspection {inspection.number} of {block.batch.code} is signed already.")
    if not given_by.strip():
        raise refuse(
            "given_by",
            "missing",
            "Who dispenses with it? The inspector or the authority by name, with the number of the letter.",
        )
    if not reason.strip():
        raise refuse("reason", "missing", "On what grounds? It stands on every declaration of this seed.")
    if inspection.follows_id is not None:
        told = "It answers for a count that did not pass; that is not dispensed with. Count it, downgrade or reject."
        raise refuse("state", "must_be_counted", told)
    others = block.inspections.exclude(pk=inspection.pk)
    if not others.exclude(state=Inspection.State.SIGNED, decision=DISPENSED).exists():
        raise refuse(
            "state",
            "last_one",
            "One visit of a field is always made and counted; the others are dispensed with already.",
        )
    inspection.state, inspection.decision = Inspection.State.SIGNED, DISPENSED
    inspection.signed_by, inspection.signed_role, inspection.signed_at = ctx.user, ctx.role, ctx.now
    covers = f"Covers “{inspection.words.lower()}” of {block.batch.code} on {block.field.name} alone."
    inspection.sentence = f"Dispensed with by {given_by.strip()}: {reason.strip()}. {covers}"[:400]
    inspection.save()
    finish_task(ctx, block.batch, visit_key(inspection))
    ctx.record(
        "inspection.dispense",
        f"{block.batch.code}, {inspection.words.lower()}: {inspection.sentence}",
        block,
        after={"inspection": str(inspection.uuid), "decision": DISPENSED},
    )
    return inspection


def sentence_of(judgement: Judgement) -> str:
    """“26 off-types in 4,000 plants; rejected from 19 on.”"""
    faults = [f for f in judgement.faults if f.found or f.state is State.REJECT] or list(judgement.faults[:1])
    said = "; ".join(f"{plural(f.found, f.words, f.words)}, rejected from {f.reject_at} on" for f in faults)
    asked = f" of the {judgement.sample:,} asked" if judgement.plants < judgement.sample else ""
    return f"{said}; {judgement.plants:,} plants{asked} counted."


def _why_not(ctx: Ctx, block: SeedBlock, decision: str, judgement: Judgement) -> str:
    if judgement.state is State.CONTINUE:
        where = f" in area {', '.join(map(str, judgement.short_areas))}" if judgement.short_areas else ""
        return f"{judgement.more_plants:,} plants are still to be counted{where} before anything can be signed."
    if decision == Choice.ACCEPT:
        worst = next(f for f in judgement.faults if f.state is State.REJECT)
        return f"{worst.found} {worst.words} reject the field ({worst.reject_at} or more of {judgement.size:,}, limit {share(worst.limit, 2)}). It cannot be accepted."
    if decision == Choice.ROGUE and judgement.state is State.REJECT:
        if spreads_pollen(ctx, block):
            return "The block sheds pollen; roguing no longer cures it. Downgrade or reject."
        return "What was found cannot be taken out by roguing. Downgrade or reject."
    if decision == Choice.DOWNGRADE and judgement.state is State.REJECT:
        return "There is no lower class in this scheme. Reject the field."
    return "The count is within every limit; only accepting follows from it."


def again_after(ctx: Ctx, inspection: Inspection, what: str) -> Inspection:
    """A new visit two days on, which answers for what the signed one left open."""
    block, working = inspection.block, ctx.calendars()[0]
    number = (block.inspections.order_by("-number").values_list("number", flat=True).first() or 0) + 1
    again = Inspection.objects.create(
        organisation=ctx.organisation,
        block=block,
        number=number,
        stage=inspection.stage,
        words=f"{inspection.words}, again {what}"[:80],
        share=inspection.share,
        days_after=inspection.days_after,
        planned_on=working.on_or_after(ctx.today + timedelta(days=2)),
        follows=inspection,
    )
    _task(ctx, block, again)
    return again


def _rogue(ctx: Ctx, inspection: Inspection, judgement: Judgement) -> None:
    """A roguing on the day sheet, and a new visit after it."""
    block, again = inspection.block, again_after(ctx, inspection, "after roguing")
    hours = hours_to_rogue(block, judgement)
    work = Work(f"rogue:{inspection.number}", "rogue", f"Rogue {block.batch.crop.name.lower()}: walk every row")
    put_task(
        ctx,
        block.batch,
        work,
        place=block.field,
        due=ctx.today,
        until=again.planned_on,
        part="early",
        minutes=round(hours * 60),
        quantity=round(hours, 1),
        unit="person-hours",
        caution="Carry rogues out in bags; nothing stays in the field. Sun, heat, bees",
    )


def rejections(block: SeedBlock) -> list[str]:
    """Inspections that rejected a block, in sentences."""
    signed = (one for one in block.inspections.all() if one.state == Inspection.State.SIGNED)
    return [
        f"field inspection “{one.words.lower()}” rejected the field" for one in signed if one.decision == Choice.REJECT
    ]


def wanting(block: SeedBlock) -> list[str]:
    """What the field inspections still leave open before a lot of this block may be released, in sentences."""
    unsigned = (one for one in block.inspections.all() if one.state != Inspection.State.SIGNED)
    return [f"field inspection “{one.words.lower()}” is not signed" for one in unsigned] + rejections(block)
