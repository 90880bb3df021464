"""What waits in Seed crops: blocks to lay out, visits, parents that miss each other, neighbours that stand too near."""

from collections.abc import Iterable
from datetime import timedelta

from django.db.models import Max

from aldrip.accounts.context import Ctx
from aldrip.accounts.decisions import Decision, Look, Words, asks
from aldrip.base.words import share
from aldrip.batches.deciding import promise_of
from aldrip.batches.models import Batch
from aldrip.lots.models import Intake
from aldrip.seedcrops.flowering import match_of
from aldrip.seedcrops.isolation import Surroundings, judge
from aldrip.seedcrops.laying import saved_batch
from aldrip.seedcrops.models import Inspection, SeedBlock
from aldrip.seedcrops.reading import WAYS
from aldrip_core.nick import RemedyClass
from aldrip_core.refusal import Refused
from aldrip_core.stages import Trait

BEFORE_VISIT_DAYS = 3
BEFORE_FLOWERING_DAYS = 7
QUIET_DAYS = 4  # without a load, after which somebody is asked whether the harvest is finished


@asks(
    lay_out=lambda d: Words(
        f"lay out {d['batch']}", f"{d['crop']} {d['batch']} has no block on a field yet.", "Lay it out"
    )
)
def to_lay_out(look: Look) -> Iterable[Decision]:
    """Batches for seed that stand on no field yet."""
    rows = look.ctx.rows(Batch).filter(method__way__in=WAYS, seed_block=None, state=Batch.State.PLANNED)
    for batch in rows.select_related("crop"):
        data = {"batch": batch.code, "crop": batch.crop.name}
        yield Decision("seedcrops", "lay_out", batch.code, data, f"/seedcrops?batch={batch.pk}")


@asks(
    inspect=lambda d: Words(
        f"inspect {d['batch']}",
        f"Inspect {d['crop'].lower()} on {d['field']}: {d['visit'].lower()}.",
        "Count",
        "no release without it",
    ),
    nick=lambda d: Words(
        f"flowering of {d['batch']}",
        f"{d['field']}: the {d['late']} is {d['days']:.0f} days late; {share(d['overlap'])} of the receptive days have pollen.",
        "See the remedies",
        d["stands"],
    ),
    isolation=lambda d: Words(
        f"isolation of {d['batch']}",
        f"{d['field']}: a neighbour stands {d['there_m']:,.0f} m away where {d['asked_m']:,.0f} m are asked.",
        "See the remedies",
        "no release until it is cleared",
    ),
    all_in=lambda d: Words(
        f"harvest of {d['batch']}",
        f"{d['batch']} on {d['field']}: loads came in, the last on {d['last']}. Is the harvest finished, or does more come?",
        "Say so",
    ),
)
def blocks(look: Look) -> Iterable[Decision]:
    """What blocks ask for while they stand."""
    around = Surroundings(look.ctx, "inspections", "remedies")
    for block in around.blocks:
        if block.batch.state in (Batch.State.PLANNED, Batch.State.SOWN):
            yield from _visits(look.ctx, block)
            yield from _before_flowering(look, around, block)
    yield from _harvests(look.ctx, around.blocks)


def _harvests(ctx: Ctx, there: Iterable[SeedBlock]) -> Iterable[Decision]:
    """Fields of which loads came in some while ago and nobody said whether more comes."""
    cut = {}
    for block in there:
        row = saved_batch(block).with_trait(Trait.LOADS) if block.batch.state == Batch.State.SOWN else None
        if row is not None and row.actual_start is not None and block.batch.all_in is None:
            cut[block.batch.uuid] = block
    if not cut:
        return
    last = ctx.rows(Intake).filter(subject__in=cut, lot__isnull=False).values_list("subject")
    for subject, at in last.annotate(newest=Max("happened_at")).order_by("subject"):
        day, block = ctx.local(at).date(), cut[subject]
        if (ctx.today - day).days >= QUIET_DAYS:
            data = {"batch": block.batch.code, "field": block.field.name, "last": f"{day.day} {day:%b}"}
            yield Decision("seedcrops", "all_in", block.batch.code, data, f"/seedcrops/{block.pk}")


def _visits(ctx: Ctx, block: SeedBlock) -> Iterable[Decision]:
    code = block.batch.code
    for visit in block.inspections.all():
        if visit.state != Inspection.State.SIGNED and visit.planned_on <= ctx.today + timedelta(days=BEFORE_VISIT_DAYS):
            data = {"batch": code, "crop": block.batch.crop.name, "field": block.field.name, "visit": visit.words}
            link = f"/seedcrops/inspections/{visit.pk}"
            yield Decision("seedcrops", "inspect", f"{code}/{visit.number}", data, link, visit.planned_on)


def _before_flowering(look: Look, around: Surroundings, block: SeedBlock) -> Iterable[Decision]:
    ctx = look.ctx
    code, link, field = block.batch.code, f"/seedcrops/{block.pk}", block.field.name
    saved = saved_batch(block)
    cut, flower = saved.with_trait(Trait.LOADS), saved.with_trait(Trait.FLOWERS)
    if cut is not None and cut.actual_start:
        return
    try:
        match = match_of(block, today=ctx.today)
    except Refused:  # without heat sums its own stages say when
        match = None
    before = timedelta(days=BEFORE_FLOWERING_DAYS)
    gap = match.now if match is not None and match.first > ctx.today else None
    if match is not None and gap is not None and gap.remedy_class is not RemedyClass.NONE and not _answered(block):
        late = "female" if gap.gap_days > 0 else "male"
        data = {"batch": code, "field": field, "late": late, "days": abs(gap.gap_days), "overlap": gap.overlap}
        data["stands"] = promise_of(look, block.batch_id)
        yield Decision("seedcrops", "nick", code, data, link, match.first - before)
    near = judge(around, block).open
    if near:
        flowers = match.first if match else flower.planned.lower if flower else ctx.today
        worst = max(near, key=lambda b: b.short_m)
        data = {"batch": code, "field": field, "there_m": worst.distance_m, "asked_m": worst.required_m}
        by = max(ctx.today, flowers - before)
        yield Decision("seedcrops", "isolation", code, data, f"{link}/isolation", by)


def _answered(block: SeedBlock) -> bool:
    """Whether a remedy was chosen for a block and still stands."""
    last: dict[int, bool] = {}
    for use in sorted(block.remedies.all(), key=lambda u: u.pk):
        last[use.remedy_id] = use.chosen
    return any(last.values())
