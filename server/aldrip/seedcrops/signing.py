"""What is decided about an inspected block: accepted, rogued, rejected in part, dispensed with; and what still stands against it."""

from datetime import timedelta

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.base.words import plural, share
from aldrip.diary.services import Work, finish_task, put_task
from aldrip.methods.services import class_scheme
from aldrip.seedcrops.flowering import match_of, shedding_from
from aldrip.seedcrops.inspecting import get_inspection, judgement_of, put_visit_task, tally_of, visit_key
from aldrip.seedcrops.laying import layout_of, left_m2, left_of, plan_rows, ring_m, saved_batch
from aldrip.seedcrops.models import Inspection, SeedBlock
from aldrip_core.field_inspection import (
    Choice,
    Judgement,
    State,
    choices,
    metres_to_walk,
    off_types_expected,
    roguing_hours,
)
from aldrip_core.refusal import Refused
from aldrip_core.rows_left import metres_left
from aldrip_core.stages import Trait

DISPENSED = "dispense"


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
    put_visit_task(ctx, block, again)
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
