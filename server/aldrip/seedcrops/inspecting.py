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
from aldrip.base.words import plural, who
from aldrip.diary.services import Work, put_task
from aldrip.lots.models import Intake
from aldrip.methods.models import Standard
from aldrip.methods.resolver import Library
from aldrip.places.ground import centre_of
from aldrip.seedcrops.flowering import match_of, shedding_from
from aldrip.seedcrops.laying import left_m2, left_of, load_block, ring_m, saved_batch
from aldrip.seedcrops.models import Inspection, InspectionCount, InspectionPhoto, SeedBlock
from aldrip_core.field_inspection import (
    FaultLimit,
    Judgement,
    SamplingPlan,
    decision_table,
    judge,
    spread_areas,
    visit_day,
)
from aldrip_core.geometry import to_degrees
from aldrip_core.plausible import WEEKS_OFF
from aldrip_core.refusal import Refused
from aldrip_core.reject_number import Decision
from aldrip_core.stages import Trait

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
        put_visit_task(ctx, block, inspection)


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


def put_visit_task(ctx: Ctx, block: SeedBlock, inspection: Inspection) -> None:
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
            put_visit_task(ctx, block, inspection)


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
